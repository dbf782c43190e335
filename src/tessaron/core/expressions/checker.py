"""What checks share: an expression with its place, and what is expected of its parts."""

from __future__ import annotations

import re
from abc import ABC, abstractmethod
from dataclasses import dataclass, replace
from typing import NoReturn

from tessaron.core.base.arrays import ArrowArray
from tessaron.core.base.visible import in_quotes
from tessaron.core.expressions.arithmetic import common_type, is_number
from tessaron.core.expressions.expression_faults import ExpressionError
from tessaron.core.expressions.syntax import (
    Call,
    Expression,
    Unary,
)
from tessaron.core.expressions.syntax import LiteralValue as LiteralValue
from tessaron.core.expressions.typed import ExpressionNames, Typed, family, shown
from tessaron.core.types.column_types import BOOLEAN, DATE, INTEGER, TEXT, ColumnType

TIMES = ("timestamp", "timestamp_tz")
_DAY = re.compile(r"\d{4}-\d\d-\d\d")
_FRACTION = re.compile(r":\d\d\.(\d+)")
_SAMPLES = {
    "date": "2026-01-31",
    "time": "10:30:00",
    "timestamp": "2026-01-31 10:30:00",
    "timestamp_tz": "2026-01-31T10:30:00Z",
}
"""How dates and times are written out in an expression."""
_OF_FAMILY = {"number": INTEGER, "boolean": BOOLEAN, "text": TEXT}
"""The type of a null where one of a family is expected."""


@dataclass(frozen=True)
class Checker(ABC):
    """Checks the parts of one expression.

    Attributes:
        home: The table it belongs to.
        at: The table whose rows the part is worked out for: inside a fold one below.
        schema: What it may name.
        text: The expression, for messages.
    """

    home: str
    at: str
    schema: ExpressionNames
    text: str

    @abstractmethod
    def check(self, tree: Expression) -> Typed:
        """Return the checked form of a part of the expression."""

    def fail(self, reason: str, at: int) -> NoReturn:
        """Raise the error for a place in the expression."""
        raise ExpressionError(reason, at, self.text)

    def expect(self, part: Typed, wanted: str, tree: Expression) -> Typed:
        """Return the part if its family of types is the wanted one."""
        found = family(part.type)
        if found not in (wanted, "null"):
            self.fail(f"expected {wanted}, got {shown(part.type)}", tree.at)
        return part if part.type is not None else replace(part, type=_OF_FAMILY[wanted])

    def _moment(self, text: str, kind: ColumnType, tree: Expression) -> ColumnType:
        """Return the type of a date or time that is written out, with the digits that it has."""
        from tessaron.core.types.fitting import fits_type

        fraction = _FRACTION.search(text)
        if fraction is not None and kind.name != "date":
            digits = max(kind.second_digits, min(len(fraction[1]), 9))
            kind = replace(kind, second_digits=digits)
        if not fits_type(text, kind):
            self.fail(f"expected a {kind.name} such as {_SAMPLES[kind.name]}, got {in_quotes(text)}", tree.at)
        return kind

    def as_text(self, part: Typed, tree: Expression) -> Typed:
        """Return a part that must be text."""
        if family(part.type) not in ("text", "null"):
            self.fail(f"expected text, got {shown(part.type)}; write cast(… as text)", tree.at)
        return part

    def comparable(self, left: Typed, right: Typed, tree: Expression) -> tuple[Typed, Typed]:
        """Return both in one type; a text written in the expression takes the type of the other side."""
        if left.type is None or right.type is None:
            return left, right
        left, right = self._adapted(left, right, tree), self._adapted(right, left, tree)
        assert left.type is not None
        assert right.type is not None
        kinds = (family(left.type), family(right.type))
        if kinds[0] == kinds[1] == "number":
            return left, right
        if set(kinds) == {"date", "timestamp"}:
            return self._widened_date(left), self._widened_date(right)
        if kinds[0] != kinds[1]:
            self.fail(f"{shown(left.type)} cannot be compared with {shown(right.type)}", tree.at)
        return left, right

    def _widened_date(self, part: Typed) -> Typed:
        moment = ColumnType("timestamp")
        return Typed("cast", moment, (part,), None) if family(part.type) == "date" else part

    def _adapted(self, part: Typed, other: Typed, tree: Expression) -> Typed:
        if part.operation != "literal" or family(part.type) != "text" or other.type is None:
            return part
        if family(other.type) in TIMES and _DAY.fullmatch(part.detail):
            # A day stands for its beginning; moments with a zone are in UTC.
            day = self._moment(part.detail, DATE, tree)
            is_local = family(other.type) == "timestamp"
            return Typed(
                "literal", day if is_local else other.type, (), part.detail + "T00:00:00Z" * (not is_local)
            )
        if family(other.type) in ("date", "time", *TIMES):
            return Typed("literal", self._moment(part.detail, other.type, tree), (), part.detail)
        return part

    def in_type(self, part: Typed, kind: ColumnType | None) -> Typed:
        """Return a part in another type of its family."""
        if part.type == kind or part.type is None:
            return Typed(part.operation, kind, part.parts, part.detail) if part.type is None else part
        return Typed("widen", kind, (part,))

    def common(self, kinds: list[ColumnType | None], tree: Expression) -> ColumnType | None:
        """Return the type that holds the values of all these."""
        found: ColumnType | None = None
        for kind in kinds:
            if kind is None or found is None:
                found = found or kind
            elif is_number(found) and is_number(kind):
                found = common_type(found, kind)
            elif family(found) != family(kind):
                self.fail(f"expected one type for all, got {shown(found)} and {shown(kind)}", tree.at)
            elif found.name != kind.name:
                found = TEXT
            elif kind.second_digits > found.second_digits:
                found = kind
        return found

    def count(self, tree: Call, least: int, most: int | None = None) -> None:
        """Check how many arguments there are."""
        given = len(tree.arguments)
        if given < least or (most is not None and given > most):
            wanted = (
                f"{least}" if most == least else f"{least} or more" if most is None else f"{least} to {most}"
            )
            plural = "" if wanted == "1" else "s"
            self.fail(f"{tree.name} takes {wanted} argument{plural}, got {given}", tree.at)

    def constant(self, argument: Expression, wanted: type, tree: Call) -> ArrowArray:
        """Return a value that must stand in the expression itself."""
        found = argument
        sign = 1
        if isinstance(found, Unary) and found.operator == "-":
            found, sign = found.operand, -1
        if not isinstance(found, LiteralValue) or type(found.value) is not wanted:
            kind = "a number without fraction" if wanted is int else "a text in quotes"
            self.fail(f"{tree.name} takes {kind} here, written out", argument.at)
        return found.value * sign if wanted is int else found.value  # type: ignore[operator]
