"""The plan of a drafted layout: its tables made ready to be filled, without a layout file between."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import replace

from tessaron.core.base.naming import Names
from tessaron.core.base.paths import is_markup, level_of
from tessaron.core.layout.table_set import ROW_KEY, WITHIN_KEY, Column, Table, TableSet
from tessaron.core.plan.plan import ColumnPlan, LayingPlan, Source, TablePlan
from tessaron.core.plan.rest_plans import rest_plans
from tessaron.core.plan.skeleton import NOT_SCALAR, skeleton_of
from tessaron.core.shape.recursion import places_again
from tessaron.core.shape.shape_node import ShapeNode
from tessaron.core.types.fitting import Spelling

_WORDS_OF_MARKUP = ("true", "false")
"""The words for booleans that go without saying in XML."""


def plan_of(tables: TableSet, record: ShapeNode) -> LayingPlan:
    """Return what turns tapes into the rows of drafted tables.

    Args:
        tables: The tables.
        record: The settled shape that they were drafted from.
    """
    plans = tuple(map(_table_plan, tables.tables))
    return LayingPlan(
        plans if any(not plan.level for plan in plans) else (TablePlan("(records)", (), ()), *plans),
        (),
        record,
        natural_key=tables.natural_key,
        has_digest_keys=tables.has_digest_keys,
        rests=tuple(rest_plans(tables)),
        exact=tables.exact,
        is_drafted=True,
    )


def _table_plan(table: Table) -> TablePlan:
    columns = tuple(_column_plan(column, table) for column in table.columns)
    output = tuple((table.name, column.name) for column in table.columns)
    return TablePlan(
        table.name,
        table.rows,
        columns,
        table,
        output,
        parent=table.parent,
        only_filled=table.only_filled,
        once=table.once,
    )


def _column_plan(column: Column, table: Table) -> ColumnPlan:
    in_markup = is_markup(column.path) or is_markup(table.rows)
    words = column.words()
    spelling = Spelling(words=None if in_markup and words == _WORDS_OF_MARKUP else words, of_markup=in_markup)
    return ColumnPlan(
        table.name,
        column.name,
        column.type,
        Source(column.path, level_of(column.path)),
        spelling=spelling,
        written=column.written,
    )


def flat_plan(plan: LayingPlan, table: str, multiply: Sequence[str], with_empty: bool) -> LayingPlan:
    """Return a plan with one table only: its rows, with all columns of the tables above them repeated.

    Args:
        plan: Of a drafted layout.
        table: The table whose rows these are.
        multiply: Tables beside it, with whose rows each row is paired.
        with_empty: Whether rows above without any row in the table stay.
    """
    chosen = [plan.table(name).level for name in (table, *multiply)]
    above = [
        each
        for each in plan.tables
        if each.table is not None
        and each.name not in (table, *multiply)
        and any(each.level == level[: len(each.level)] for level in chosen)
    ]
    base = plan.table(table)
    others = [*above, *(plan.table(name) for name in multiply)]
    carried = [(each.name, column) for each in others for column in _columns(each)]
    written = _flat_table(base, carried)
    output = [(name, column.name) for name, column in carried]
    flat = replace(
        base,
        table=written,
        output=(*output, *base.output),
        with_empty=with_empty,
        multiply=tuple(multiply),
    )
    silent = {each.name: replace(each, table=None) for each in others}
    kept = tuple(
        flat if each.name == table else silent[each.name]
        for each in plan.tables
        if each.name == table or each.name in silent
    )
    return replace(plan, tables=kept, skeleton=_skeleton_of(kept, plan.skeleton), is_drafted=False)


def _skeleton_of(tables: Iterable[TablePlan], record: ShapeNode) -> ShapeNode:
    """Return the structure that tables suppose, as a layout file of them has it."""
    sources = [column.source for table in tables for column in table.columns if column.source is not None]
    own = {source.path for source in sources if source.path == source.level}
    paths = [source.path for source in sources]
    columns = [path for path in paths if path[-1:] not in NOT_SCALAR or path in own]
    levels = [table.level for table in tables]
    return skeleton_of([*levels, *paths], columns, places_again(record))


def _columns(table: TablePlan) -> Iterator[Column]:
    if table.table is not None:
        yield from table.table.columns


def _flat_table(base: TablePlan, carried: Iterable[tuple[str, Column]]) -> Table:
    """Return the one table: what is carried from others first, named after these where a name is taken."""
    assert base.table is not None
    table = base.table
    taken = Names([column.name for column in table.columns])
    columns = []
    for name, column in carried:
        shown = taken.claim_of(name, column.name)
        columns.append(Column(shown, (), column.type, shown=f"{name}.{column.name}"))
    named = Names([column.name for column in (*columns, *table.columns)])
    keys = {
        key: named.claim_of(table.name, key) for key in (ROW_KEY, *([WITHIN_KEY] if table.within_key else []))
    }
    return Table(
        table.name,
        table.rows,
        None,
        keys[ROW_KEY],
        None,
        None,
        (*columns, *table.columns),
        keys.get(WITHIN_KEY),
        key_type=table.key_type,
    )
