"""Which tables keep the rest of their rows, and how the values of their columns are turned back."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from tessaron.core.base.paths import Origin, Path
from tessaron.core.layout.table_set import TableSet
from tessaron.core.types.column_types import ColumnType


@dataclass(frozen=True, slots=True)
class WrittenAs:
    """How the values of a column are turned back."""

    type: ColumnType
    written: str = ""
    words: tuple[str, str] | None = None


@dataclass(frozen=True, slots=True)
class RestPlan:
    """A table that keeps the rest of its rows.

    Attributes:
        level: The path of its rows.
        forms: Its columns by the path of their values.
        others: Paths of columns whose values do not go back; nothing is kept of what stands there.
    """

    level: Path
    forms: Mapping[Path, WrittenAs]
    others: frozenset[Path] = frozenset()


def rest_plans(tables: TableSet) -> list[RestPlan]:
    """Return the tables of a drafted layout that keep the rest of their rows.

    Columns of the same rows in tables beside them are no rest.
    """
    forms: dict[Path, dict[Path, WrittenAs]] = {}
    for table in tables.tables:
        for column in table.columns:
            if column.path[-1:] != (Origin.REST,):
                told = WrittenAs(column.type, column.written, column.words())
                forms.setdefault(table.rows, {})[column.path] = told
    return [
        RestPlan(table.rows, forms.get(table.rows, {}))
        for table in tables.tables
        if any(column.path[-1:] == (Origin.REST,) for column in table.columns)
    ]
