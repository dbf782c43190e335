"""What a parsed expression consists of: plain data, each part with the place of its first character."""

from __future__ import annotations

from dataclasses import dataclass
from decimal import Decimal

from tessaron.core.types.column_types import ColumnType


@dataclass(frozen=True, slots=True)
class LiteralValue:
    """A text, number, true, false or null; with `type` a date, time or timestamp in its text form."""

    value: str | int | float | Decimal | bool | None
    at: int
    type: ColumnType | None = None


@dataclass(frozen=True, slots=True)
class Reference:
    """A column of this table (`table` is None), or of another one."""

    table: str | None
    column: str
    at: int


@dataclass(frozen=True, slots=True)
class Unary:
    """`not` or `-` before an operand."""

    operator: str
    operand: Expression
    at: int


@dataclass(frozen=True, slots=True)
class Binary:
    """Two operands joined by one of `or and == != < <= > >= + - * / % ||`."""

    operator: str
    left: Expression
    right: Expression
    at: int


@dataclass(frozen=True, slots=True)
class IsNull:
    """`is null`, or `is not null` when negated."""

    operand: Expression
    negated: bool
    at: int


@dataclass(frozen=True, slots=True)
class Among:
    """`in (…)`, or `not in (…)` when negated."""

    operand: Expression
    choices: tuple[Expression, ...]
    negated: bool
    at: int


@dataclass(frozen=True, slots=True)
class Conditional:
    """`if … then … else …`."""

    condition: Expression
    then: Expression
    otherwise: Expression
    at: int


@dataclass(frozen=True, slots=True)
class Cast:
    """`cast(… as type)`, with the codes of `format '…'` for dates and times."""

    operand: Expression
    type: ColumnType
    format: str | None
    at: int


@dataclass(frozen=True, slots=True)
class Call:
    """A function with its arguments; `where` is the condition of a fold."""

    name: str
    arguments: tuple[Expression, ...]
    where: Expression | None
    at: int


Expression = LiteralValue | Reference | Unary | Binary | IsNull | Among | Conditional | Cast | Call


def parts_of(expression: Expression) -> tuple[Expression, ...]:
    """Return the expressions directly inside one."""
    match expression:
        case Unary(_, operand) | IsNull(operand) | Cast(operand):
            return (operand,)
        case Binary(_, left, right):
            return (left, right)
        case Among(operand, choices):
            return (operand, *choices)
        case Conditional(condition, then, otherwise):
            return (condition, then, otherwise)
        case Call(_, arguments, where):
            return arguments if where is None else (*arguments, where)
    return ()
