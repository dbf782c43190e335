"""Columns of what stands around records of XML, carried into their rows: read on the way, not joined."""

from __future__ import annotations

import re

from tessaron.core.layout.layout_model import ColumnPart, LayoutPart, TablePart

_PREDICATES = re.compile(r"\[[^\]]*\]")


def with_values_from_above(part: LayoutPart) -> LayoutPart:
    """Return a layout in which columns carried from a table around the records are columns with `..` paths.

    The end of a document comes after its records; what stands above and before them is known with them. Other
    tables and columns stay as they are, also where something is wrong with them.
    """
    depth = _depth(part.reading.records)
    around = {name: table for name, table in part.tables.items() if table.around and table.rows == "."}
    if part.reading.format != "xml" or depth < 2 or not around:
        return part
    tables = {name: _with_columns(table, around, depth) for name, table in part.tables.items()}
    return part.model_copy(update={"tables": tables})


def _depth(records: str | None) -> int:
    """Return how many elements lead to the records, themselves included; 0 where that is not known."""
    if records is None or "//" in records or not records.startswith("/"):
        return 0
    return _PREDICATES.sub("", records).count("/")


def _with_columns(table: TablePart, around: dict[str, TablePart], depth: int) -> TablePart:
    if table.around or not isinstance(table.rows, str):
        return table
    below = 0 if table.rows.strip() in (".", "") else table.rows.strip().removeprefix("./").count("/") + 1
    carried: dict[str, ColumnPart] = {}
    left: list[str] = []
    for text in table.carry:
        owner, _, wanted = text.partition(".")
        columns = around[owner].columns if owner in around else {}
        chosen = list(columns) if wanted == "*" else [wanted]
        if any(name not in columns or not _is_plain(columns[name]) for name in chosen) or not chosen:
            left.append(text)
            continue
        for name in chosen:
            free = name if name not in table.columns and name not in carried else f"{owner}_{name}"
            path = "../" * (depth - 1 + below) + str(columns[name].path)
            carried[free] = columns[name].model_copy(update={"path": path})
    return table.model_copy(update={"carry": left, "columns": carried | table.columns})


def _is_plain(column: ColumnPart) -> bool:
    is_one = column.fold is None and column.flags is None and column.numbered is None
    return is_one and column.path is not None
