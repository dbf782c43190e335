"""The rest of rows in layouts: the column that keeps it, and how the columns beside it are turned back."""

from __future__ import annotations

from collections.abc import Iterable

from tessaron.core.base.paths import Origin
from tessaron.core.layout.layout_model import ColumnPart, LayoutPart, TablePart
from tessaron.core.plan.plan import ColumnPlan, TablePlan, is_turned_back
from tessaron.core.plan.rest_plans import RestPlan, WrittenAs


def with_rests(part: LayoutPart) -> LayoutPart:
    """Return a layout in which, if it is exact, every table has a column for the rest of its rows."""
    if not part.exact:
        return part
    return part.model_copy(
        update={"tables": {name: _with_rest(table) for name, table in part.tables.items()}}
    )


def _with_rest(table: TablePart) -> TablePart:
    if (
        table.only_filled
        or table.once
        or any(column.origin == Origin.REST.value for column in table.columns.values())
    ):
        # What few rows have stands beside another table of the same rows.
        return table
    name = Origin.REST.value
    while name in table.columns:
        name += "_"
    rest = ColumnPart.model_validate({"origin": Origin.REST.value})
    return table.model_copy(update={"columns": table.columns | {name: rest}})


def keeps_rest(table: TablePlan) -> bool:
    """Say whether a table has a column for the rest of its rows."""
    return any(_is_rest(column) for column in table.columns)


def rest_of(table: TablePlan, tables: Iterable[TablePlan]) -> RestPlan:
    """Return how the rest of a table's rows is found, of which other `tables` may have columns too."""
    forms, others = {}, set()
    for each in tables:
        for column in each.columns if each is table or _is_beside(each, table) else ():
            if column.source is None or _is_rest(column):
                continue
            if is_turned_back(column, each):
                forms[column.source.path] = form_of(column)
            else:
                others.add(column.source.path)
    return RestPlan(table.level, forms, frozenset(others))


def _is_beside(other: TablePlan, table: TablePlan) -> bool:
    return (other.only_filled or bool(other.once)) and other.level == table.level


def form_of(column: ColumnPlan) -> WrittenAs:
    """Return how the values of a column are turned back."""
    return WrittenAs(column.type, column.written, column.spelling.words)


def _is_rest(column: ColumnPlan) -> bool:
    return column.source is not None and column.source.path[-1:] == (Origin.REST,)
