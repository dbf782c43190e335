"""Rows written to a stream as they come: CSV (RFC 4180), tab-separated, JSON, or a table for people."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from typing import Literal, TextIO

from tessaron.core.base.json_text import json_text, quoted_text
from tessaron.core.base.parsed_values import NumberText
from tessaron.views.grid import Grid
from tessaron.views.palette import PLAIN, Palette

RowForm = Literal["table", "tsv", "csv", "json"]
ROW_FORMS: tuple[RowForm, ...] = ("table", "tsv", "csv", "json")

_NEEDS_QUOTES = re.compile(r'[",\r\n]')
_TSV_ESCAPES = str.maketrans({"\\": "\\\\", "\t": "\\t", "\n": "\\n", "\r": "\\r"})


def cell_text(value: object) -> str | None:
    """Return a parsed value as the text of a cell: a text as it is, anything else as JSON; None for null."""
    if value is None:
        return None
    if isinstance(value, str):
        return str(value)
    return json_text(value, ascii_only=False)


def write_rows(
    stream: TextIO,
    names: Sequence[str],
    rows: Iterable[Sequence[object]],
    form: RowForm,
    width: int = 0,
    types: Sequence[str] = (),
    palette: Palette = PLAIN,
) -> int:
    """Write rows of parsed values and return how many there were.

    Args:
        stream: Where to.
        names: The columns.
        rows: The values, None for null.
        form: In which form. A table is written at the end, the others row by row.
        width: Cells of the terminal, for a table; 0 for no limit.
        types: Types of the columns, shown under their names in a table.
        palette: Colours for types and null, in a table.
    """
    if form == "table":
        return _write_table(stream, names, list(rows), Grid(names, width, frozenset(), types, palette))
    count = 0
    if form != "json":
        stream.write(_line(names, form))
    for row in rows:
        stream.write(_json_line(names, row) if form == "json" else _line(list(map(cell_text, row)), form))
        count += 1
    return count


def _json_line(names: Sequence[str], row: Sequence[object]) -> str:
    members = (
        f"{quoted_text(name)}:{json_text(value, ascii_only=False)}"
        for name, value in zip(names, row, strict=True)
    )
    return "{" + ",".join(members) + "}\n"


def _line(cells: Sequence[str | None], form: RowForm) -> str:
    if form == "tsv":
        return "\t".join("" if cell is None else cell.translate(_TSV_ESCAPES) for cell in cells) + "\n"
    return ",".join(map(_csv_cell, cells)) + "\r\n"


def _csv_cell(cell: str | None) -> str:
    if cell is None:
        return ""
    if not cell or _NEEDS_QUOTES.search(cell):
        return '"' + cell.replace('"', '""') + '"'
    return cell


def _write_table(stream: TextIO, names: Sequence[str], rows: list[Sequence[object]], grid: Grid) -> int:
    grid.right = frozenset(
        index
        for index in range(len(names))
        if any(row[index] is not None for row in rows) and all(_is_number(row[index]) for row in rows)
    )
    for line in grid.lines([[cell_text(value) for value in row] for row in rows]):
        stream.write(line + "\n")
    return len(rows)


def _is_number(value: object) -> bool:
    return value is None or (isinstance(value, (int, float, NumberText)) and not isinstance(value, bool))
