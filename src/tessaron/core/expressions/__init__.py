"""Expressions of calculated columns and filters: parsed, checked, evaluated on whole columns."""

from __future__ import annotations

from tessaron.core.expressions.checking import check_expression
from tessaron.core.expressions.evaluation import Evaluation, Scope
from tessaron.core.expressions.faults import ExpressionError, nearest
from tessaron.core.expressions.parsing import parse_expression
from tessaron.core.expressions.typed import Schema, Typed

__all__ = [
    "Evaluation", "ExpressionError", "Schema", "Scope", "Typed", "check_expression", "nearest",
    "parse_expression",
]  # fmt: skip
