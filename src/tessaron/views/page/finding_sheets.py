"""What verify, compare and history have found, as sheets of a page."""

from __future__ import annotations

from collections.abc import Iterator

from tessaron.core.base.visible import visible
from tessaron.core.changes.judged_changes import Judgement
from tessaron.prove.verifying import Verification
from tessaron.repeat.comparing import Comparison
from tessaron.repeat.run_history import History
from tessaron.views.page.page_model import Rows, Sheet, SheetCell, Tone, names_of
from tessaron.views.page.run_sheets import left_out_sheets
from tessaron.views.verification_view import CHECK_NAMES

_TONES: dict[Judgement, Tone] = {Judgement.BREAKS: "bad", Judgement.WIDENS: "note"}


def verification_sheets(found: Verification) -> Iterator[Sheet]:
    """Yield what differs first, then the checks, and what is left out by intention."""
    if found.differences:
        rows: Rows = [
            [
                SheetCell(each.kind, tone="bad"), f"{each.count:,}", SheetCell(each.path, path=each.path),
                SheetCell(each.in_source, is_code=True), SheetCell(each.in_tables, is_code=True),
                visible(f"{each.source}, record {each.record:,}" + (f", {each.place}" if each.place else "")),
            ]
            for each in found.differences
        ]  # fmt: skip
        headings = ("difference", "times", "path", "in the source", "in the tables", "the first")
        told = f"{found.differing:,} of {found.records:,} records differ"
        yield Sheet(
            "differences", "Differences", headings, rows, frozenset(("times",)), told, rest="with --json"
        )
    failed = [each for each in found.checks if not each.passed]
    if failed:
        rows = [
            [SheetCell(each.table, table=each.table), each.name, SheetCell(each.detail, tone="bad")]
            for each in failed
        ]
        yield Sheet("failed", "Checks that failed", ("table", "check", "what"), rows, rest="with --json")
    kinds: dict[str, list[bool]] = {}
    for each in found.checks:
        kinds.setdefault(each.name, []).append(each.passed)
    rows = [
        [
            CHECK_NAMES.get(name, name), f"{len(passed):,}",
            SheetCell("all passed", tone="good")
            if all(passed)
            else SheetCell(f"{passed.count(False):,} failed", tone="bad"),
        ]
        for name, passed in kinds.items()
    ]  # fmt: skip
    yield Sheet("checks", "Checks of the tables", ("check", "count", ""), rows, frozenset(("count",)))
    yield from left_out_sheets([{"path": path, "values": count} for path, count in found.left_out.items()])
    if found.worked_on:
        told = "worked out again from the source, and compared"
        rows = [[name, why] for name, why in found.worked_on.items()]
        yield Sheet(
            "worked-on",
            "Columns that hold something else than the source",
            ("column", "why"),
            rows,
            told=told,
        )


def comparison_sheets(found: Comparison) -> Iterator[Sheet]:
    """Yield the changes, those that break most first."""
    rows: Rows = [
        [
            SheetCell(each.judgement.name.lower(), tone=_TONES.get(each.judgement, "")),
            SheetCell(each.path, path=each.path), each.text, each.column,
            SheetCell(each.example, is_code=True),
        ]
        for each in found.changes
    ]  # fmt: skip
    headings = ("judgement", "path", "what has changed", "column", "example")
    yield Sheet("changes", "Changes", headings, rows, rest="with --json")


def history_sheets(history: History) -> Iterator[Sheet]:
    """Yield the runs, the last one first, then what had changed in them."""
    numeric = ("run", "records", "rejected", "rejected values", "new", "changed", "seconds")
    headings = (
        "run", "when", "mode", "into", "records", "rejected", "rejected values", "new", "changed", "seconds",
        "sources",
    )  # fmt: skip
    rows: Rows = [
        [
            f"{each.run:,}", each.started.replace("T", " ").replace("+00:00", " UTC"), each.mode, each.top,
            f"{each.records:,}",
            SheetCell(f"{each.rejected:,}", tone="bad" if each.rejected else ""),
            SheetCell(f"{each.rejected_values:,}", tone="bad" if each.rejected_values else ""),
            *(f"{each.merged[name]:,}" if name in each.merged else "" for name in ("new", "changed")),
            f"{each.seconds:.1f}",
            names_of(each.sources),
        ]
        for each in history.runs
    ]  # fmt: skip
    yield Sheet("runs", "Runs", headings, rows, frozenset(numeric), rest="with --json")
    changes = [[f"{each.run:,}", text] for each in history.runs for text in each.changes]
    if changes:
        yield Sheet(
            "changes", "What had changed", ("run", "change"), changes, frozenset(("run",)), rest="with --json"
        )
    tables = next((each.rows for each in history.runs if each.rows), {})
    if tables:
        counted = [[name, f"{number:,}"] for name, number in tables.items()]
        yield Sheet(
            "rows", "Rows after the last run", ("table", "rows"), counted, frozenset(("rows",)),
            is_open=len(counted) <= 20,
        )  # fmt: skip
