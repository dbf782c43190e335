"""Plain tables and lines for the terminal."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import TYPE_CHECKING

from rich import box
from rich.console import Console
from rich.table import Table
from rich.text import Text

from tessaron.core.base.visible import visible
from tessaron.sinks.target_folder import REJECTS_FILE
from tessaron.sources.forms.file_form import FORMAT_NAMES
from tessaron.views.palette import STYLES, Meaning

if TYPE_CHECKING:
    from tessaron.write.books.receipt import Finding, KeyCheck, Receipt

_WIDTH_WITHOUT_TERMINAL = 200
_NOTES_SHOWN = 10
_TABLES_SHOWN = 40
_GAP = 3


def console(stderr: bool = False) -> Console:
    """Return a console for results (or for messages): as wide as the terminal, wide in a pipe."""
    made = Console(stderr=stderr, highlight=False, soft_wrap=False)
    return (
        made if made.is_terminal else Console(stderr=stderr, highlight=False, width=_WIDTH_WITHOUT_TERMINAL)
    )


def grid(
    headings: Sequence[str],
    rows: Iterable[Sequence[str]],
    numeric: Sequence[str] = (),
    meaning: Callable[[str, str], Meaning | None] = lambda heading, cell: None,
) -> Table:
    """Return a table under a line of headings; the columns named in `numeric` stand to the right.

    `meaning` says of a cell, given with its heading, what its colour is to say.
    """
    table = Table(box=box.SIMPLE_HEAD, pad_edge=False, show_edge=False)
    for heading in headings:
        table.add_column(heading, justify="right" if heading in numeric else "left", overflow="fold")
    for row in rows:
        found = [meaning(heading, cell) for heading, cell in zip(headings, row, strict=True)]
        styles = ["" if each is None else STYLES[each] for each in found]
        table.add_row(*(Text(visible(cell), style) for cell, style in zip(row, styles, strict=True)))
    return table


def count(number: int, what: str) -> str:
    """Return e.g. `1 record`, `2,400 records`."""
    return f"{number:,} {what}" if number == 1 else f"{number:,} {what}s"


def show(screen: Console, *parts: Table | str) -> None:
    """Print the parts, without blanks at the ends of lines."""
    if not parts:
        return
    with screen.capture() as captured:
        for part in parts:
            shown = visible(part) if isinstance(part, str) else part
            style = _style_of(part) if isinstance(part, str) else None
            screen.print(shown, markup=False, soft_wrap=isinstance(part, str), style=style)
    print(*(line.rstrip() for line in captured.get().splitlines()), sep="\n", file=screen.file)


_MEANINGS: tuple[tuple[str, Meaning], ...] = (
    ("identical:", "good"), ("not identical", "trouble"), ("check failed", "trouble"), ("failed:", "trouble"),
    ("record rejected", "trouble"), ("value rejected", "trouble"), ("put aside:", "trouble"),
    ("changed since", "trouble"), ("not met:", "warning"),
)  # fmt: skip
"""How lines begin that mean something."""


def _style_of(line: str) -> str | None:
    return next((STYLES[meaning] for start, meaning in _MEANINGS if line.startswith(start)), None)


def notes_view(receipt: Receipt) -> list[str]:
    """Return what the user should know: what was recognised, widened or left out, a line each."""
    lines = [f"note: {note.path}: {note.text}" for note in receipt.notes[:_NOTES_SHOWN]]
    if len(receipt.notes) > _NOTES_SHOWN:
        lines.append(f"note: {len(receipt.notes) - _NOTES_SHOWN:,} more notes in receipt.json")
    if receipt.repeated_names > _NOTES_SHOWN:
        lines.append(
            f"note: {count(receipt.repeated_names, 'value')} gave way to a later one of the same name"
        )
    if receipt.key_check is not None and not receipt.key_check.passed:
        lines.append(_key_failure(receipt.key_check))
    elif receipt.key_check is None and receipt.candidate_keys:
        lines.append(f"note: could be a natural key: {', '.join(receipt.candidate_keys)} (say so with --key)")
    lines += _layout_notes(receipt)
    if receipt.rejected or receipt.rejected_values:
        left = [f"{count(receipt.rejected, 'record')} left out"] if receipt.rejected else []
        left += [f"{count(receipt.rejected_values, 'value')} left out"] if receipt.rejected_values else []
        reasons = ", ".join(f"{number:,} {code}" for code, number in receipt.reasons.items())
        lines.append(f"{' and '.join(left)} ({reasons})")
        is_loaded = receipt.format not in FORMAT_NAMES
        where = f"tessaron_rejects of {receipt.target}" if is_loaded else f"{receipt.target}/{REJECTS_FILE}"
        lines.append(f"places, reasons and records are in {where}")
    lines += [f"check failed: {each.text()}; please report this" for each in receipt.gaps[:_NOTES_SHOWN]]
    return lines


def _layout_notes(receipt: Receipt) -> list[str]:
    """Return what the choice of columns, filters and conditions have led to."""
    filtered = [f"{rows:,} of {table}" for table, rows in receipt.filtered.items()]
    lines = [f"filtered: {', '.join(filtered)} (rows that a filter took, and those below them)"] * bool(
        filtered
    )
    if receipt.left_out:
        values = sum(each.values for each in receipt.left_out)
        paths = count(len(receipt.left_out), "path")
        lines.append(f"left out: {count(values, 'value')} at {paths}, listed in receipt.json")
    lines += finding_lines(receipt.findings)
    if len(receipt.findings) > _NOTES_SHOWN:
        lines.append(f"{len(receipt.findings) - _NOTES_SHOWN:,} more findings in receipt.json")
    lines += [f"not met: {name} stands nowhere in the source" for name in receipt.unmet]
    lines += [_key_failure(check) for check in receipt.key_checks if not check.passed]
    return lines


def finding_lines(findings: Sequence[Finding]) -> list[str]:
    """Return what did not hold in a run by a layout, a line each; the first ones, if there are many."""
    return [
        f"{_OUTCOMES[each.outcome]}: {each.name} ({each.code}) {_times(each.count)}; {each.example}"
        for each in findings[:_NOTES_SHOWN]
    ]


def _times(number: int) -> str:
    return "once" if number == 1 else f"{number:,} times"


_OUTCOMES = {"record": "record rejected", "value": "value rejected", "note": "note"}


def _key_failure(check: KeyCheck) -> str:
    what = " + ".join(check.columns) + (f" of {check.table}" if check.table else "")
    found = f"{count(check.duplicates, 'row')} with the values of an earlier one, {check.nulls:,} with null"
    return f"check failed: {what} is no key: {found}"


def receipt_view(receipt: Receipt, width: int = 0) -> list[Table | str]:
    """Return what an export ends with: a table of the files, and one line of totals.

    Where the terminal is narrower than its rows (`width`, 0 for no limit) the files are left out.
    """
    rows = [
        (table.name, f"{table.rows:,}", f"{len(table.columns):,}", table.file)
        for table in receipt.tables[:_TABLES_SHOWN]
    ]
    more = len(receipt.tables) - len(rows)
    totals = (
        f"{count(receipt.records, 'record')} in, {count(receipt.rows, 'row')} out, "
        f"{count(len(receipt.tables), 'table')} in {receipt.target}, {receipt.seconds:.2f} seconds"
    )
    told = [f"… and {count(more, 'more table')}, listed in receipt.json"] * bool(more)
    headings = ("table", "rows", "columns", "file")
    widest = sum(max(map(len, column)) + _GAP for column in zip(headings, *rows, strict=True))
    if width and widest > width:
        shown = grid(headings[:-1], [row[:-1] for row in rows], numeric=("rows", "columns"))
    else:
        shown = grid(headings, rows, numeric=("rows", "columns"))
    return [shown, *told, "", totals, *cluster_lines(receipt)]


def cluster_lines(receipt: Receipt) -> list[str]:
    """Return what a cluster did, in a line for each worker; of many the first."""
    done = receipt.cluster
    if done is None:
        return []
    lines = [f"on {done.address}: {count(done.parts, 'part')} by {count(len(done.workers), 'worker')}"]
    for each in done.workers[:_NOTES_SHOWN]:
        memory = f", at most {each.peak_bytes / 1e6:,.0f} MB" if each.peak_bytes else ""
        lines.append(f"  {each.worker}: {count(each.tasks, 'task')}, {each.seconds:,.1f} seconds{memory}")
    more = len(done.workers) - _NOTES_SHOWN
    return lines + [f"  … and {count(more, 'more worker')}, listed in receipt.json"] * (more > 0)
