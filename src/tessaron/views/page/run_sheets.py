"""What a run did, as sheets of a page: records through the steps, rejects, what was left out, types."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Any

from tessaron.core.base.visible import clipped, visible
from tessaron.views.page.page_model import Rows, Sheet, SheetCell
from tessaron.views.terminal import count
from tessaron.write.books.balance import balances_of, gaps

_REST = "in receipt.json"
_EXAMPLES = 3
_LONGEST_RAW = 240


def account_sheets(receipt: Mapping[str, Any], rejects: Iterable[Mapping[str, Any]] = ()) -> Iterator[Sheet]:
    """Yield what became of records and values.

    Args:
        receipt: As it stands in `receipt.json`.
        rejects: The first rejects, as they stand in `rejects.ndjson`.
    """
    yield _steps(receipt)
    yield from _rejects(receipt, rejects)
    yield from _findings(receipt)
    yield from left_out_sheets(receipt["left_out"])


def other_sheets(receipt: Mapping[str, Any]) -> Iterator[Sheet]:
    """Yield what else a receipt tells, which is as it stands in `receipt.json`: types, checks, sources."""
    yield _types(receipt)
    yield from _notes(receipt)
    yield _sources(receipt)


def run_facts(receipt: Mapping[str, Any]) -> list[tuple[str, str]]:
    """Return the names and values that a page of a run has under its title."""
    seconds = float(receipt["seconds"])
    size = sum(int(each["bytes"] or 0) for each in receipt["sources"])
    speed = f", {size / seconds / 1e6:,.1f} MB a second" if size and seconds else ""
    return [
        ("started", str(receipt["started"]).replace("T", " ").replace("+00:00", " UTC")),
        ("took", f"{seconds:.2f} seconds{speed}"),
        ("written", f"{receipt['format']} in {visible(str(receipt['target']))}"),
        ("layout", visible(str(receipt["layout"] or "drafted in this run"))),
    ]


def _steps(receipt: Mapping[str, Any]) -> Sheet:
    sums = balances_of(receipt)
    rows: Rows = [
        [
            SheetCell(each.name or "records", table=each.name),
            *(f"{number:,}" for number in (each.read, each.filtered, each.rejected, each.written)),
            SheetCell("does not add up", tone="bad") if each.gap else SheetCell("adds up", tone="good"),
        ]
        for each in sums
        if each.what != "values"
    ]
    values = [each for each in sums if each.what == "values"]
    wrong = len(gaps(values))
    told = f"{count(len(values), 'column')} counted too, value by value: "
    told += f"{wrong:,} sums do not add up" if wrong else "every sum adds up"
    return Sheet(
        "steps", "Records through the steps",
        ("", "read", "taken by filters", "rejected", "written", ""), rows,
        frozenset(("read", "taken by filters", "rejected", "written")), told if values else "", rest=_REST,
    )  # fmt: skip


def _rejects(receipt: Mapping[str, Any], rejects: Iterable[Mapping[str, Any]]) -> Iterator[Sheet]:
    reasons: Mapping[str, int] = receipt["reasons"]
    if not reasons:
        return
    examples: dict[str, list[Mapping[str, Any]]] = {}
    for each in rejects:
        known = examples.setdefault(str(each.get("code", "")), [])
        if len(known) < _EXAMPLES:
            known.append(each)
    rows: Rows = []
    for code, number in reasons.items():
        found: Sequence[Mapping[str, Any]] = examples.get(code, ())
        for place, each in enumerate(found or [{}]):
            head = [code, f"{number:,}"] if place == 0 else ["", ""]
            raw = SheetCell(clipped(visible(str(each.get("raw") or "")), _LONGEST_RAW), is_code=True)
            rows.append([*head, _place(each), str(each.get("message", "")), raw])
    lost = [("record", receipt["rejected"]), ("value", receipt["rejected_values"])]
    told = " and ".join(count(number, what) for what, number in lost if number) + ": not in the tables"
    headings = ("reason", "count", "where", "what", "record")
    yield Sheet("rejects", "Rejects, by reason", headings, rows, frozenset(("count",)), told)


def _place(reject: Mapping[str, Any]) -> str:
    parts = [str(reject["source"])] if reject.get("source") else []
    parts += [f"line {reject['line']:,}"] if reject.get("line") is not None else []
    parts += [f"record {reject['record']:,}"] if reject.get("record") is not None else []
    return visible(", ".join(parts))


def _findings(receipt: Mapping[str, Any]) -> Iterator[Sheet]:
    found = receipt["findings"]
    if found:
        rows: Rows = [
            [
                SheetCell(str(each["outcome"]), tone="note" if each["outcome"] == "note" else "bad"),
                each["code"], each["name"], f"{each['count']:,}", each["example"],
            ]
            for each in found
        ]  # fmt: skip
        headings = ("rejected", "reason", "column", "times", "the first")
        yield Sheet("findings", "What did not hold", headings, rows, frozenset(("times",)), rest=_REST)


def left_out_sheets(left_out: Sequence[Mapping[str, Any]]) -> Iterator[Sheet]:
    """Yield the sheet of what the layout leaves out; none where that is nothing."""
    if not left_out:
        return
    ordered = sorted(left_out, key=lambda each: -int(each["values"]))
    rows: Rows = [[SheetCell(each["path"], path=each["path"]), f"{each['values']:,}"] for each in ordered]
    values = sum(int(each["values"]) for each in left_out)
    told = f"{count(values, 'value')} at {count(len(left_out), 'path')}, as the layout has no column for them"
    yield Sheet(
        "left-out",
        "Left out",
        ("path", "values"),
        rows,
        frozenset(("values",)),
        told,
        rest="with fewer values",
    )


def _types(receipt: Mapping[str, Any]) -> Sheet:
    counts: Counter[str] = Counter()
    notes: Rows = []
    for table in receipt["tables"]:
        for column in table["columns"]:
            if column["path"] is not None:
                counts[str(column["type"])] += 1
                if column["note"]:
                    name = SheetCell(visible(f"{table['name']}.{column['name']}"), table=table["name"])
                    notes.append([name, str(column["type"]), str(column["note"])])
    listed = ", ".join(f"{number:,} {name}" for name, number in counts.most_common())
    return Sheet("types", "Types chosen", ("column", "type", "why"), notes, told=listed, rest=_REST)


def _notes(receipt: Mapping[str, Any]) -> Iterator[Sheet]:
    rows: Rows = [[SheetCell(each["path"], path=each["path"]), each["text"]] for each in receipt["notes"]]
    checks = [receipt["key_check"], *receipt["key_checks"]]
    for each in checks:
        if each is not None:
            name = " + ".join(each["columns"])
            bad = (
                f"{each['duplicates']:,} rows with the values of an earlier one, {each['nulls']:,} with null"
            )
            fine = not each["duplicates"] and not each["nulls"]
            tone = SheetCell("is a key" if fine else f"is no key: {bad}", tone="good" if fine else "bad")
            rows.append([visible(f"{each['table']} {name}".strip()), tone])
    if receipt["key_check"] is None and receipt["candidate_keys"]:
        rows.append([visible(", ".join(receipt["candidate_keys"])), "could be a natural key: --key"])
    rows += [[each, "stands nowhere in the source"] for each in receipt["unmet"]]
    if rows:
        yield Sheet("notes-of-run", "Recognised, and checked", ("what", ""), rows, rest=_REST)


def _sources(receipt: Mapping[str, Any]) -> Sheet:
    rows = [
        [
            str(each["name"]), f"{int(each['bytes'] or 0):,}", f"{each['records']:,}",
            f"{each['rejected']:,}",
        ]
        for each in receipt["sources"]
    ]  # fmt: skip
    numeric = ("bytes", "records", "rejected")
    return Sheet(
        "sources",
        "Sources",
        ("source", *numeric),
        rows,
        frozenset(numeric),
        is_open=len(rows) < 12,
        rest=_REST,
    )
