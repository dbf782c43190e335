"""Checking expressions: names are resolved and every part gets its type, before any data is read."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass, replace
from decimal import Decimal
from typing import Any, NoReturn

from tessaron.core.expressions.arithmetic import common_type, decimal_type, is_number, number_type
from tessaron.core.expressions.dates import UNIT_MICROSECONDS
from tessaron.core.expressions.faults import ExpressionError, nearest
from tessaron.core.expressions.fold_checks import check_fold
from tessaron.core.expressions.function_checks import FOLD_NAMES, check_function
from tessaron.core.expressions.syntax import (
    Among,
    Binary,
    Call,
    Cast,
    Conditional,
    Expression,
    IsNull,
    Reference,
    Unary,
)
from tessaron.core.expressions.syntax import Literal as LiteralValue
from tessaron.core.expressions.typed import Schema, Typed, family, shown
from tessaron.core.typing.types import BOOLEAN, DATE, DOUBLE, INTEGER, TEXT, ColumnType
from tessaron.core.visible import in_quotes

_TIMES = ("timestamp", "timestamp_tz")
_DAY = re.compile(r"\d{4}-\d\d-\d\d")
_FRACTION = re.compile(r":\d\d\.(\d+)")
_SAMPLES = {
    "date": "2026-01-31",
    "time": "10:30:00",
    "timestamp": "2026-01-31 10:30:00",
    "timestamp_tz": "2026-01-31T10:30:00Z",
}
"""How dates and times are written out in an expression."""


def check_expression(tree: Expression, table: str, schema: Schema, text: str) -> Typed:
    """Return the checked form of a parsed expression.

    Args:
        tree: As `parse_expression` made it.
        table: The table whose rows it is worked out for.
        schema: What it may name.
        text: The expression, for messages.

    Raises:
        ExpressionError: With the place, and the nearest name or the type expected.
    """
    return Checker(table, table, schema, text).check(tree)


@dataclass(frozen=True)
class Checker:
    """Checks the parts of one expression.

    Attributes:
        home: The table it belongs to.
        at: The table whose rows the part is worked out for: inside a fold one below.
        schema: What it may name.
        text: The expression, for messages.
    """

    home: str
    at: str
    schema: Schema
    text: str

    def check(self, tree: Expression) -> Typed:
        """Return the checked form of a part of the expression."""
        return _CHECKS[type(tree)](self, tree)

    def fail(self, reason: str, at: int) -> NoReturn:
        """Raise the error for a place in the expression."""
        raise ExpressionError(reason, at, self.text)

    def expect(self, part: Typed, wanted: str, tree: Expression) -> Typed:
        """Return the part if its family of types is the wanted one."""
        found = family(part.type)
        if found not in (wanted, "null"):
            self.fail(f"expected {wanted}, got {shown(part.type)}", tree.at)
        return part if part.type is not None else replace(part, type=_OF_FAMILY[wanted])

    def _reference(self, tree: Reference) -> Typed:
        table = tree.table or self.home
        if tree.table is not None and tree.table not in self.schema.tables():
            self.fail(
                f"no table {in_quotes(tree.table)}; {nearest(tree.table, self.schema.tables())}", tree.at
            )
        columns = self.schema.columns(table)
        if tree.column not in columns:
            self._no_column(tree, table, columns)
        relation = self.schema.relation(self.at, table)
        if relation == "below":
            self.fail(
                f"{table} has many rows for one of {self.at}; fold them, as in first({table}.{tree.column})",
                tree.at,
            )
        if relation == "aside":
            self.fail(f"{table} is neither above nor below {self.at}", tree.at)
        return Typed("column", self.schema.type_of(table, tree.column), (), (table, tree.column))

    def _no_column(self, tree: Reference, table: str, columns: list[str]) -> NoReturn:
        elsewhere = [other for other in self.schema.tables() if tree.column in self.schema.columns(other)]
        if tree.table is None and elsewhere:
            self.fail(
                f"no column {in_quotes(tree.column)} in {table}; did you mean {elsewhere[0]}.{tree.column}?",
                tree.at,
            )
        self.fail(f"no column {in_quotes(tree.column)} in {table}; {nearest(tree.column, columns)}", tree.at)

    def _literal(self, tree: LiteralValue) -> Typed:
        kind = _literal_type(tree)
        if tree.type is not None and isinstance(tree.value, str):
            kind = self._moment(tree.value, tree.type, tree)
        return Typed("literal", kind, (), tree.value)

    def _moment(self, text: str, kind: ColumnType, tree: Expression) -> ColumnType:
        """Return the type of a date or time that is written out, with the digits that it has."""
        from tessaron.core.typing.fitting import fits_type

        fraction = _FRACTION.search(text)
        if fraction is not None and kind.name != "date":
            digits = max(kind.second_digits, min(len(fraction[1]), 9))
            kind = replace(kind, second_digits=digits)
        if not fits_type(text, kind):
            self.fail(f"expected a {kind.name} such as {_SAMPLES[kind.name]}, got {in_quotes(text)}", tree.at)
        return kind

    def _unary(self, tree: Unary) -> Typed:
        if tree.operator == "not":
            return Typed("not", BOOLEAN, (self.expect(self.check(tree.operand), "boolean", tree.operand),))
        inner = self.check(tree.operand)
        if inner.operation == "literal" and is_number(inner.type):
            return Typed("literal", inner.type, (), -inner.detail)
        inner = self.expect(inner, "number", tree.operand)
        return Typed("negate", inner.type, (inner,))

    def _binary(self, tree: Binary) -> Typed:
        left, right = self.check(tree.left), self.check(tree.right)
        if tree.operator in ("and", "or"):
            left = self.expect(left, "boolean", tree.left)
            right = self.expect(right, "boolean", tree.right)
            return Typed(tree.operator, BOOLEAN, (left, right))
        if tree.operator == "||":
            return Typed("concat", TEXT, (self.as_text(left, tree.left), self.as_text(right, tree.right)))
        if tree.operator in _COMPARING:
            return Typed("compare", BOOLEAN, self.comparable(left, right, tree), tree.operator)
        return self._arithmetic(left, right, tree)

    def as_text(self, part: Typed, tree: Expression) -> Typed:
        """Return a part that must be text."""
        if family(part.type) not in ("text", "null"):
            self.fail(f"expected text, got {shown(part.type)}; write cast(… as text)", tree.at)
        return part

    def _arithmetic(self, left: Typed, right: Typed, tree: Binary) -> Typed:
        kinds = (family(left.type), family(right.type))
        if tree.operator in "+-" and kinds[0] == "date":
            if kinds == ("date", "date") and tree.operator == "-":
                return Typed("days_from", INTEGER, (right, left), "date")
            if right.type == INTEGER:
                days = right if tree.operator == "+" else Typed("negate", INTEGER, (right,))
                return Typed("plus_days", DATE, (left, days))
        if tree.operator == "+" and left.type == INTEGER and kinds[1] == "date":
            return Typed("plus_days", DATE, (right, left))
        if kinds[0] in _TIMES and kinds[1] in _TIMES and tree.operator == "-":
            self.fail(f"say in which unit: {', '.join(UNIT_MICROSECONDS)} (earlier, later)", tree.at)
        self.expect(left, "number", tree.left)
        self.expect(right, "number", tree.right)
        types = (left.type or right.type or INTEGER, right.type or left.type or INTEGER)
        return Typed("arithmetic", number_type(tree.operator, *types), (left, right), (tree.operator, types))

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
        if family(other.type) in _TIMES and _DAY.fullmatch(part.detail):
            # A day stands for its beginning; moments with a zone are in UTC.
            day = self._moment(part.detail, DATE, tree)
            is_local = family(other.type) == "timestamp"
            return Typed(
                "literal", day if is_local else other.type, (), part.detail + "T00:00:00Z" * (not is_local)
            )
        if family(other.type) in ("date", "time", *_TIMES):
            return Typed("literal", self._moment(part.detail, other.type, tree), (), part.detail)
        return part

    def _is_null(self, tree: IsNull) -> Typed:
        return Typed("is_null", BOOLEAN, (self.check(tree.operand),), tree.negated)

    def _among(self, tree: Among) -> Typed:
        operand = self.check(tree.operand)
        tests = []
        for choice in tree.choices:
            pair = self.comparable(operand, self.check(choice), choice)
            tests.append(Typed("compare", BOOLEAN, pair, "=="))
        found = Typed("any_of", BOOLEAN, tuple(tests))
        return Typed("not", BOOLEAN, (found,)) if tree.negated else found

    def _conditional(self, tree: Conditional) -> Typed:
        condition = self.expect(self.check(tree.condition), "boolean", tree.condition)
        branches = [self.check(tree.then), self.check(tree.otherwise)]
        kind = self.common([branch.type for branch in branches], tree)
        return Typed("if", kind, (condition, *(self.in_type(branch, kind) for branch in branches)))

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

    def _cast(self, tree: Cast) -> Typed:
        inner = self.check(tree.operand)
        target = tree.type
        if not _can_cast(inner.type, target):
            self.fail(f"{shown(inner.type)} cannot become {target}", tree.at)
        if tree.format is not None:
            self._check_format(tree, inner)
        return Typed("cast", target, (inner,), tree.format)

    def _check_format(self, tree: Cast, inner: Typed) -> None:
        from tessaron.core.typing.date_formats import DateFormatError, parts_of_format

        if family(inner.type) not in ("text", "null") or tree.type.name not in ("date", "time", *_TIMES):
            self.fail("'format' is for text that becomes a date or time", tree.at)
        try:
            parts_of_format(str(tree.format))
        except DateFormatError as error:
            self.fail(str(error), tree.at)

    def _call(self, tree: Call) -> Typed:
        is_row_wise = tree.name in ("least", "most") and len(tree.arguments) > 1
        if tree.name in FOLD_NAMES and not is_row_wise:
            return check_fold(self, tree)
        if tree.where is not None:
            self.fail(f"'where' is for folds such as sum; {tree.name} is none", tree.where.at)
        arguments = tuple(self.check(argument) for argument in tree.arguments)
        return check_function(self, tree, arguments)

    def count(self, tree: Call, least: int, most: int | None = None) -> None:
        """Check how many arguments there are."""
        given = len(tree.arguments)
        if given < least or (most is not None and given > most):
            wanted = (
                f"{least}" if most == least else f"{least} or more" if most is None else f"{least} to {most}"
            )
            plural = "" if wanted == "1" else "s"
            self.fail(f"{tree.name} takes {wanted} argument{plural}, got {given}", tree.at)

    def constant(self, argument: Expression, wanted: type, tree: Call) -> Any:
        """Return a value that must stand in the expression itself."""
        found = argument
        sign = 1
        if isinstance(found, Unary) and found.operator == "-":
            found, sign = found.operand, -1
        if not isinstance(found, LiteralValue) or type(found.value) is not wanted:
            kind = "a number without fraction" if wanted is int else "a text in quotes"
            self.fail(f"{tree.name} takes {kind} here, written out", argument.at)
        return found.value * sign if wanted is int else found.value  # type: ignore[operator]


_OF_FAMILY = {"number": INTEGER, "boolean": BOOLEAN, "text": TEXT}
"""The type of a null where one of a family is expected."""
_COMPARING = frozenset(("==", "!=", "<", "<=", ">", ">="))
_CHECKS: dict[type, Callable[[Checker, Any], Typed]] = {
    LiteralValue: Checker._literal, Reference: Checker._reference, Unary: Checker._unary,
    Binary: Checker._binary, IsNull: Checker._is_null, Among: Checker._among,
    Conditional: Checker._conditional, Cast: Checker._cast, Call: Checker._call,
}  # fmt: skip


def _literal_type(tree: LiteralValue) -> ColumnType | None:
    if tree.type is not None:
        return tree.type
    match tree.value:
        case None:
            return None
        case bool():
            return BOOLEAN
        case int():
            return INTEGER if -(2**63) <= tree.value < 2**63 else decimal_type(38, 0)
        case float():
            return DOUBLE
        case Decimal():
            digits = tree.value.as_tuple()
            scale = -int(digits.exponent)
            return decimal_type(max(len(digits.digits), scale), scale)
    return TEXT


def _can_cast(kind: ColumnType | None, target: ColumnType) -> bool:
    found = family(kind)
    if found in ("null", "text") or target.name in ("text",) or kind == target:
        return True
    if found == "number":
        return is_number(target) or target.name == "boolean"
    if found == "boolean":
        return target.name in ("integer", "boolean")
    if found in _TIMES:
        return target.name in ("date", "time", *_TIMES)
    return found == target.name or (found == "date" and target.name == "timestamp")
