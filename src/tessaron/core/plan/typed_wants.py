"""Which columns of a layout the emission can type itself."""

from __future__ import annotations

from typing import Any

from tessaron.core.base.paths import Path
from tessaron.core.plan.plan import ColumnPlan, LayingPlan
from tessaron.core.tape.form import Form
from tessaron.core.tape.typed_columns import CODES, WantedColumn
from tessaron.core.types.fitting import boolean_words


def wanted_columns(plan: LayingPlan, form: Form) -> dict[Any, WantedColumn]:
    """Return the columns that emission is to type, by their `fit_key`.

    Args:
        plan: A layout that changes no structure before rows are made.
        form: The form of its tapes.
    """
    places = {path: place for place, path in enumerate(form.paths)}
    columns = [
        column
        for table in plan.tables
        for column in table.columns
        # What stands above records is known of them, and not on their tape.
        if column.source is not None and not column.source.is_above
    ]
    kept = {limit.source.path for table in plan.tables for limit in table.limits}
    kept |= {_path_of(column) for column in columns if not _can_be_typed(column, plan.exact)}
    return {
        column.fit_key(): _wanted(
            column, places[_path_of(column)], _path_of(column) in kept or _may_leave_rests(column, plan)
        )
        for column in columns
        if _path_of(column) in places and _can_be_typed(column, plan.exact)
    }


def _may_leave_rests(column: ColumnPlan, plan: LayingPlan) -> bool:
    """Say whether the rest of rows is made of the values themselves, even where all fit their column."""
    return plan.exact or (bool(plan.rests) and column.spelling.words is not None)


def _path_of(column: ColumnPlan) -> Path:
    assert column.source is not None
    return column.source.path


def _can_be_typed(column: ColumnPlan, exact: bool) -> bool:
    """Say whether a column takes values as they are: what `exact` keeps of texts is told in their column."""
    name = column.value_type.name
    is_told = exact and name == "text"
    as_it_is = column.spelling.is_plain and not column.cleaning.changes_texts
    return name in CODES and as_it_is and not is_told and column.fold != "count"


def _wanted(column: ColumnPlan, place: int, keeps_values: bool) -> WantedColumn:
    kind = column.value_type
    return WantedColumn(
        place,
        kind.name,
        kind.arrow_type(),
        kind.precision or kind.second_digits,
        kind.scale,
        column.drops_empty,
        boolean_words(column.spelling) if kind.name == "boolean" else (),
        keeps_values,
    )
