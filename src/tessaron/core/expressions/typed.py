"""Checked parts of expressions, and what they may name."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any, Literal, Protocol

from tessaron.core.expressions.arithmetic import is_number
from tessaron.core.types.column_types import ColumnType

Relation = Literal["same", "above", "below", "aside"]


class ExpressionNames(Protocol):
    """What an expression may name."""

    def tables(self) -> list[str]:
        """Return the names of all tables."""

    def columns(self, table: str) -> list[str]:
        """Return the names of a table's columns."""

    def type_of(self, table: str, column: str) -> ColumnType:
        """Return the type of a column, which may be calculated itself."""

    def relation(self, table: str, other: str) -> Relation:
        """Say where the rows of `other` stand, seen from the rows of `table`."""


@dataclass(frozen=True, slots=True)
class Typed:
    """A checked part of an expression.

    Attributes:
        operation: What is to be done; see `evaluation`.
        type: Of the result; None for a null without type.
        parts: What it is done with.
        detail: What else it needs.
    """

    operation: str
    type: ColumnType | None
    parts: tuple[Typed, ...] = ()
    detail: Any = None

    def walk(self) -> Iterator[Typed]:
        """Yield this part and all inside it."""
        pending = [self]
        while pending:
            part = pending.pop()
            yield part
            pending.extend(part.parts)


def family(kind: ColumnType | None) -> str:
    """Return what a type can be compared with: number, text, or its own name; null for none."""
    if kind is None:
        return "null"
    if is_number(kind):
        return "number"
    return "text" if kind.name in ("text", "uuid", "json", "xml") else kind.name


def shown(kind: ColumnType | None) -> str:
    """Return the name of a type, for messages."""
    return "null" if kind is None else str(kind)
