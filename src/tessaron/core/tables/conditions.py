"""The conditions that a layout sets for the values of a column."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from tessaron.core.base.arrays import ArrowArray
from tessaron.core.base.errors import Code
from tessaron.core.plan.plan import ColumnPlan
from tessaron.core.query.iregexp_columns import match_pattern
from tessaron.core.tables.problems import shown_value


def failure(reason: Callable[[ColumnPlan], str], values: ArrowArray, plan: ColumnPlan, index: int) -> str:
    """Return the words for a value, at an index of `values`, that does not keep a condition."""
    value = values[index].as_py()
    if value is None:
        return reason(plan)
    return f"{reason(plan)}, got {'a value (masked)' if plan.mask else shown_value(value)}"


def _missing(values: ArrowArray, plan: ColumnPlan) -> ArrowArray:
    return pc.is_null(values) if plan.conditions.required else None


def _not_allowed(values: ArrowArray, plan: ColumnPlan) -> ArrowArray:
    if plan.conditions.allowed is None:
        return None
    known = pc.is_in(values, pa.array(plan.conditions.allowed, values.type))
    return pc.and_(pc.is_valid(values), pc.invert(known))


def _too_small(values: ArrowArray, plan: ColumnPlan) -> ArrowArray:
    least = plan.conditions.least
    return None if least is None else pc.less(values, pa.scalar(least, values.type))


def _too_large(values: ArrowArray, plan: ColumnPlan) -> ArrowArray:
    most = plan.conditions.most
    return None if most is None else pc.greater(values, pa.scalar(most, values.type))


def _not_matching(values: ArrowArray, plan: ColumnPlan) -> ArrowArray:
    pattern = plan.conditions.pattern
    if pattern is None:
        return None
    return pc.invert(match_pattern(values.cast(pa.large_string()), pattern))


CONDITIONS: tuple[tuple[Code, Callable[[ColumnPlan], str], Callable[[Any, ColumnPlan], Any]], ...] = (
    (Code.REQUIRED, lambda plan: "expected a value, got none", _missing),
    (Code.ALLOWED, lambda plan: f"expected one of {_some(plan.conditions.allowed)}", _not_allowed),
    (Code.RANGE, lambda plan: f"expected {plan.conditions.least} or more", _too_small),
    (Code.RANGE, lambda plan: f"expected {plan.conditions.most} or less", _too_large),
    (Code.PATTERN, lambda plan: f"expected text like {plan.conditions.pattern}", _not_matching),
)


def _some(values: tuple[Any, ...] | None) -> str:
    shown = [shown_value(value) for value in values or ()]
    return ", ".join(shown[:8]) + (", …" if len(shown) > 8 else "")
