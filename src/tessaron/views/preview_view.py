"""The first rows of tables, as parsed values that can be shown or written."""

from __future__ import annotations

from collections.abc import Iterator

import pyarrow as pa

from tessaron.core.base.arrays import ArrowArray, ArrowRows
from tessaron.core.base.parsed_values import NumberText
from tessaron.core.layout.table_set import Table
from tessaron.core.types.column_types import in_shown_unit

_NUMBERS = frozenset(("decimal", "double"))


def type_names(table: Table) -> list[str]:
    """Return the types of all columns, keys included, in their order."""
    return [
        *(table.key_type_of(key) for key in table.key_columns()),
        *(str(column.type) for column in table.columns),
    ]


def row_values(rows: ArrowRows, table: Table) -> Iterator[list[object]]:
    """Yield rows of a `pyarrow.Table` as values of JSON; times as an export to CSV writes them."""
    names = dict.fromkeys(table.key_columns(), "integer") | {
        column.name: column.type.name for column in table.columns
    }
    columns = [_values(rows.column(name), names[name], table, name) for name in rows.column_names]
    return (list(row) for row in zip(*columns, strict=True))


def _values(column: ArrowArray, type_name: str, table: Table, name: str) -> list[object]:
    if type_name in _NUMBERS:
        return [None if value is None else NumberText(_number(value)) for value in column.to_pylist()]
    if type_name in ("date", "time", "timestamp", "timestamp_tz", "uuid"):
        found = next(each for each in table.columns if each.name == name)
        return list(in_shown_unit(column, found.type).cast(pa.large_string()).to_pylist())
    return list(column.to_pylist())


def _number(value: object) -> str:
    text = repr(value) if isinstance(value, float) else format(value, "f")
    return text[:-2] if text.endswith(".0") and isinstance(value, float) else text
