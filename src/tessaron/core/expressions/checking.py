"""Checking expressions: names are resolved and every part gets its type, before any data is read."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from decimal import Decimal
from typing import Any, NoReturn

from tessaron.core.base.visible import in_quotes
from tessaron.core.expressions.arithmetic import decimal_type, is_number, number_type
from tessaron.core.expressions.checker import TIMES, Checker
from tessaron.core.expressions.dates import UNIT_MICROSECONDS
from tessaron.core.expressions.expression_faults import nearest
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
from tessaron.core.expressions.syntax import LiteralValue as LiteralValue
from tessaron.core.expressions.typed import ExpressionNames, Typed, family, shown
from tessaron.core.types.column_types import BOOLEAN, DATE, DOUBLE, INTEGER, TEXT, ColumnType


def check_expression(tree: Expression, table: str, schema: ExpressionNames, text: str) -> Typed:
    """Return the checked form of a parsed expression.

    Args:
        tree: As `parse_expression` made it.
        table: The table whose rows it is worked out for.
        schema: What it may name.
        text: The expression, for messages.

    Raises:
        ExpressionError: With the place, and the nearest name or the type expected.
    """
    return ExpressionChecker(table, table, schema, text).check(tree)


@dataclass(frozen=True)
class ExpressionChecker(Checker):
    """Checks the parts of one expression, each by its kind."""

    def check(self, tree: Expression) -> Typed:
        """Return the checked form of a part of the expression."""
        return _CHECKS[type(tree)](self, tree)

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
        if kinds[0] in TIMES and kinds[1] in TIMES and tree.operator == "-":
            self.fail(f"say in which unit: {', '.join(UNIT_MICROSECONDS)} (earlier, later)", tree.at)
        self.expect(left, "number", tree.left)
        self.expect(right, "number", tree.right)
        types = (left.type or right.type or INTEGER, right.type or left.type or INTEGER)
        return Typed("arithmetic", number_type(tree.operator, *types), (left, right), (tree.operator, types))

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

    def _cast(self, tree: Cast) -> Typed:
        inner = self.check(tree.operand)
        target = tree.type
        if not _can_cast(inner.type, target):
            self.fail(f"{shown(inner.type)} cannot become {target}", tree.at)
        if tree.format is not None:
            self._check_format(tree, inner)
        return Typed("cast", target, (inner,), tree.format)

    def _check_format(self, tree: Cast, inner: Typed) -> None:
        from tessaron.core.types.date_formats import DateFormatError, parts_of_format

        if family(inner.type) not in ("text", "null") or tree.type.name not in ("date", "time", *TIMES):
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


_COMPARING = frozenset(("==", "!=", "<", "<=", ">", ">="))
_CHECKS: dict[type, Callable[[ExpressionChecker, Any], Typed]] = {
    LiteralValue: ExpressionChecker._literal,
    Reference: ExpressionChecker._reference,
    Unary: ExpressionChecker._unary,
    Binary: ExpressionChecker._binary,
    IsNull: ExpressionChecker._is_null,
    Among: ExpressionChecker._among,
    Conditional: ExpressionChecker._conditional,
    Cast: ExpressionChecker._cast,
    Call: ExpressionChecker._call,
}


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
    if found in TIMES:
        return target.name in ("date", "time", *TIMES)
    return found == target.name or (found == "date" and target.name == "timestamp")
