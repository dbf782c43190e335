"""Checking expressions: names are resolved and every part gets its type, before any data is read."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from decimal import Decimal
from typing import Any, Literal, NoReturn, Protocol

from tessaron.core.expressions.arithmetic import (
    common_type,
    decimal_type,
    is_number,
    number_type,
    rounded_type,
)
from tessaron.core.expressions.dates import SPAN, UNIT_MICROSECONDS
from tessaron.core.expressions.faults import ExpressionError, nearest
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
    parts_of,
)
from tessaron.core.expressions.syntax import Literal as LiteralValue
from tessaron.core.folding import folded_type
from tessaron.core.jsonpath.iregexp import parse_iregexp
from tessaron.core.typing.types import BOOLEAN, DATE, DOUBLE, INTEGER, TEXT, ColumnType

Relation = Literal["same", "above", "below", "aside"]


class Schema(Protocol):
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


FOLD_NAMES = frozenset(
    (
        "sum",
        "count",
        "count_distinct",
        "mean",
        "least",
        "most",
        "first",
        "last",
        "nth",
        "any",
        "all",
        "joined",
    )
)
_TEXT_FUNCTIONS = frozenset(("upper", "lower", "trim"))
_PATTERN_FUNCTIONS = frozenset(("matches", "contains", "starts", "ends"))
_DATE_PARTS = {
    **dict.fromkeys(("year", "quarter", "month", "week", "day", "weekday"), INTEGER),
    **dict.fromkeys(("month_name", "weekday_name"), TEXT),
}
_TIME_PARTS = dict.fromkeys(("hour", "minute", "second"), INTEGER)
_ROUNDINGS = {"round": "half", "floor": "down", "ceil": "up"}
FUNCTION_NAMES = frozenset(
    (
        *FOLD_NAMES, *_TEXT_FUNCTIONS, *_PATTERN_FUNCTIONS, *_DATE_PARTS, *_TIME_PARTS, *_ROUNDINGS,
        *UNIT_MICROSECONDS, "join", "length", "part", "replace", "abs", "coalesce", "null_if", "cast",
    )
)  # fmt: skip
_TIMES = ("timestamp", "timestamp_tz")


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
    return _Checker(table, table, schema, text).check(tree)


@dataclass(frozen=True)
class _Checker:
    home: str
    at: str
    schema: Schema
    text: str

    def check(self, tree: Expression) -> Typed:
        return _CHECKS[type(tree)](self, tree)

    def fail(self, reason: str, at: int) -> NoReturn:
        raise ExpressionError(reason, at, self.text)

    def expect(self, part: Typed, wanted: str, tree: Expression) -> Typed:
        """Return the part if its family of types is the wanted one."""
        found = family(part.type)
        if found not in (wanted, "null"):
            self.fail(f"expected {wanted}, got {shown(part.type)}", tree.at)
        return part

    def reference(self, tree: Reference) -> Typed:
        table = tree.table or self.home
        if tree.table is not None and tree.table not in self.schema.tables():
            self.fail(f"no table {tree.table!r}; {nearest(tree.table, self.schema.tables())}", tree.at)
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
                f"no column {tree.column!r} in {table}; did you mean {elsewhere[0]}.{tree.column}?", tree.at
            )
        self.fail(f"no column {tree.column!r} in {table}; {nearest(tree.column, columns)}", tree.at)

    def literal(self, tree: LiteralValue) -> Typed:
        return Typed("literal", _literal_type(tree), (), tree.value)

    def unary(self, tree: Unary) -> Typed:
        if tree.operator == "not":
            return Typed("not", BOOLEAN, (self.expect(self.check(tree.operand), "boolean", tree.operand),))
        inner = self.check(tree.operand)
        if inner.operation == "literal" and is_number(inner.type):
            return Typed("literal", inner.type, (), -inner.detail)
        self.expect(inner, "number", tree.operand)
        return Typed("negate", inner.type, (inner,))

    def binary(self, tree: Binary) -> Typed:
        left, right = self.check(tree.left), self.check(tree.right)
        if tree.operator in ("and", "or"):
            self.expect(left, "boolean", tree.left)
            self.expect(right, "boolean", tree.right)
            return Typed(tree.operator, BOOLEAN, (left, right))
        if tree.operator == "||":
            return Typed("concat", TEXT, (self._as_text(left, tree.left), self._as_text(right, tree.right)))
        if tree.operator in _COMPARING:
            return Typed("compare", BOOLEAN, self._comparable(left, right, tree), tree.operator)
        return self._arithmetic(left, right, tree)

    def _as_text(self, part: Typed, tree: Expression) -> Typed:
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
        if kinds[0] in _TIMES and kinds[1] in _TIMES and tree.operator == "-":
            self.fail(f"say in which unit: {', '.join(UNIT_MICROSECONDS)} (earlier, later)", tree.at)
        self.expect(left, "number", tree.left)
        self.expect(right, "number", tree.right)
        types = (left.type or right.type or INTEGER, right.type or left.type or INTEGER)
        return Typed("arithmetic", number_type(tree.operator, *types), (left, right), (tree.operator, types))

    def _comparable(self, left: Typed, right: Typed, tree: Expression) -> tuple[Typed, Typed]:
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
        if family(other.type) in ("date", "time", *_TIMES):
            return Typed("literal", other.type, (), part.detail)
        return part

    def is_null(self, tree: IsNull) -> Typed:
        return Typed("is_null", BOOLEAN, (self.check(tree.operand),), tree.negated)

    def among(self, tree: Among) -> Typed:
        operand = self.check(tree.operand)
        tests = []
        for choice in tree.choices:
            pair = self._comparable(operand, self.check(choice), choice)
            tests.append(Typed("compare", BOOLEAN, pair, "=="))
        found = Typed("any_of", BOOLEAN, tuple(tests))
        return Typed("not", BOOLEAN, (found,)) if tree.negated else found

    def conditional(self, tree: Conditional) -> Typed:
        condition = self.expect(self.check(tree.condition), "boolean", tree.condition)
        branches = [self.check(tree.then), self.check(tree.otherwise)]
        kind = self._common([branch.type for branch in branches], tree)
        return Typed("if", kind, (condition, *(self._in_type(branch, kind) for branch in branches)))

    def _in_type(self, part: Typed, kind: ColumnType | None) -> Typed:
        if part.type == kind or part.type is None:
            return Typed(part.operation, kind, part.parts, part.detail) if part.type is None else part
        return Typed("widen", kind, (part,))

    def _common(self, kinds: list[ColumnType | None], tree: Expression) -> ColumnType | None:
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

    def cast(self, tree: Cast) -> Typed:
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

    def call(self, tree: Call) -> Typed:
        is_row_wise = tree.name in ("least", "most") and len(tree.arguments) > 1
        if tree.name in FOLD_NAMES and not is_row_wise:
            return self._fold(tree)
        if tree.where is not None:
            self.fail(f"'where' is for folds such as sum; {tree.name} is none", tree.where.at)
        arguments = tuple(self.check(argument) for argument in tree.arguments)
        for names, check in _FUNCTION_CHECKS:
            if tree.name in names:
                return check(self, tree, arguments)
        raise AssertionError(tree.name)

    def count(self, tree: Call, least: int, most: int | None = None) -> None:
        """Check how many arguments there are."""
        given = len(tree.arguments)
        if given < least or (most is not None and given > most):
            wanted = (
                f"{least}" if most == least else f"{least} or more" if most is None else f"{least} to {most}"
            )
            plural = "" if wanted == "1" else "s"
            self.fail(f"{tree.name} takes {wanted} argument{plural}, got {given}", tree.at)

    def _fold(self, tree: Call) -> Typed:
        self.count(tree, 1, 2 if tree.name in ("nth", "joined") else 1)
        argument = tree.arguments[0]
        if isinstance(argument, Reference) and tree.name == "count" and self._names_rows(argument):
            below = argument.column
            inner = Typed("literal", BOOLEAN, (), True)
        else:
            below = self._fold_table(tree)
            inner = _Checker(self.home, below, self.schema, self.text).check(argument)
        scope = _Checker(self.home, below, self.schema, self.text)
        parts = [inner]
        if tree.where is not None:
            parts.append(scope.expect(scope.check(tree.where), "boolean", tree.where))
        kind = folded_type("first" if tree.name == "nth" else tree.name, inner.type or TEXT)
        if kind is None:
            self.fail(f"{tree.name} cannot be made of {shown(inner.type)}", argument.at)
        return Typed("fold", kind, tuple(parts), (tree.name, below, self._fold_details(tree)))

    def _names_rows(self, argument: Reference) -> bool:
        """Say whether the argument of count names a table below, whose rows are counted."""
        name = argument.column
        known = argument.table is None and name in self.schema.tables()
        if known and self.schema.relation(self.at, name) != "below":
            self.fail(f"{name} is not below {self.at}: nothing to count", argument.at)
        return known

    def _fold_details(self, tree: Call) -> dict[str, Any]:
        if tree.name not in ("nth", "joined"):
            return {}
        name, wanted = ("position", int) if tree.name == "nth" else ("separator", str)
        default = ", " if tree.name == "joined" else None
        given = self.constant(tree.arguments[1], wanted, tree) if len(tree.arguments) > 1 else default
        if given is None or given == 0:
            self.fail("nth takes a position as its second argument, from 1 or from the end (-1)", tree.at)
        return {name: given}

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

    def _fold_table(self, tree: Call) -> str:
        """Return the lowest of the tables below that a fold names."""
        named = [
            reference
            for argument in (*tree.arguments, *((tree.where,) if tree.where is not None else ()))
            for reference in _references(argument)
        ]
        lowest: str | None = None
        for reference in named:
            table = reference.table
            if table is None or table not in self.schema.tables():
                continue
            if self.schema.relation(self.at, table) != "below":
                continue
            if lowest is None or self.schema.relation(lowest, table) == "below":
                lowest = table
            elif self.schema.relation(lowest, table) == "aside":
                self.fail(f"{lowest} and {table} stand beside each other; fold each by itself", reference.at)
        if lowest is None:
            self._nothing_below(tree, named)
        return lowest

    def _nothing_below(self, tree: Call, named: list[Reference]) -> NoReturn:
        below = [name for name in self.schema.tables() if self.schema.relation(self.at, name) == "below"]
        for reference in named:
            if reference.table is not None and reference.table not in self.schema.tables():
                self.fail(f"no table {reference.table!r}; {nearest(reference.table, below)}", reference.at)
            for table in below:
                if reference.table is None and reference.column in self.schema.columns(table):
                    self.fail(f"did you mean {tree.name}({table}.{reference.column})?", reference.at)
        self.fail(f"{tree.name} folds rows of a table below {self.at}; {nearest('', below)}", tree.at)

    def text_function(self, tree: Call, arguments: tuple[Typed, ...]) -> Typed:
        self.count(tree, 1, 1)
        return Typed(tree.name, TEXT, (self.expect(arguments[0], "text", tree.arguments[0]),))

    def length(self, tree: Call, arguments: tuple[Typed, ...]) -> Typed:
        self.count(tree, 1, 1)
        return Typed("length", INTEGER, (self.expect(arguments[0], "text", tree.arguments[0]),))

    def join(self, tree: Call, arguments: tuple[Typed, ...]) -> Typed:
        self.count(tree, 2)
        separator = self.constant(tree.arguments[0], str, tree)
        parts = [self._as_text(part, at) for part, at in zip(arguments[1:], tree.arguments[1:], strict=True)]
        return Typed("join", TEXT, tuple(parts), separator)

    def part(self, tree: Call, arguments: tuple[Typed, ...]) -> Typed:
        self.count(tree, 2, 3)
        self.expect(arguments[0], "text", tree.arguments[0])
        numbers = [self.constant(argument, int, tree) for argument in tree.arguments[1:]]
        if numbers[0] < 1 or numbers[-1] < 0:
            self.fail("part counts characters from 1, and takes no fewer than none", tree.arguments[1].at)
        return Typed("part", TEXT, arguments[:1], tuple(numbers))

    def replace(self, tree: Call, arguments: tuple[Typed, ...]) -> Typed:
        self.count(tree, 3, 3)
        self.expect(arguments[0], "text", tree.arguments[0])
        words = tuple(self.constant(argument, str, tree) for argument in tree.arguments[1:])
        return Typed("replace", TEXT, arguments[:1], words)

    def pattern(self, tree: Call, arguments: tuple[Typed, ...]) -> Typed:
        self.count(tree, 2, 2)
        self.expect(arguments[0], "text", tree.arguments[0])
        word = self.constant(tree.arguments[1], str, tree)
        if tree.name == "matches" and parse_iregexp(word) is None:
            self.fail(f"{word!r} is no regular expression of RFC 9485", tree.arguments[1].at)
        return Typed(tree.name, BOOLEAN, arguments[:1], word)

    def date_part(self, tree: Call, arguments: tuple[Typed, ...]) -> Typed:
        self.count(tree, 1, 1)
        kinds = ("date", *_TIMES) if tree.name in _DATE_PARTS else ("time", *_TIMES)
        if family(arguments[0].type) not in (*kinds, "null"):
            self.fail(f"expected {' or '.join(kinds)}, got {shown(arguments[0].type)}", tree.arguments[0].at)
        return Typed("date_part", (_DATE_PARTS | _TIME_PARTS)[tree.name], arguments, tree.name)

    def span(self, tree: Call, arguments: tuple[Typed, ...]) -> Typed:
        self.count(tree, 2, 2)
        pair = self._comparable(arguments[0], arguments[1], tree)
        kinds = {family(part.type) for part in pair} - {"null"}
        if not kinds <= {"date", *_TIMES}:
            self.fail(f"expected dates or timestamps, got {shown(arguments[0].type)}", tree.arguments[0].at)
        is_date = kinds == {"date"}
        return Typed(tree.name, INTEGER if is_date else SPAN, pair, "date" if is_date else "time")

    def rounding(self, tree: Call, arguments: tuple[Typed, ...]) -> Typed:
        self.count(tree, 1, 2 if tree.name == "round" else 1)
        inner = self.expect(arguments[0], "number", tree.arguments[0])
        digits = self.constant(tree.arguments[1], int, tree) if len(arguments) > 1 else 0
        return Typed(
            "round", rounded_type(inner.type or INTEGER, digits), (inner,), (digits, _ROUNDINGS[tree.name])
        )

    def absolute(self, tree: Call, arguments: tuple[Typed, ...]) -> Typed:
        self.count(tree, 1, 1)
        inner = self.expect(arguments[0], "number", tree.arguments[0])
        return Typed("abs", inner.type or INTEGER, (inner,))

    def chosen(self, tree: Call, arguments: tuple[Typed, ...]) -> Typed:
        self.count(tree, 2)
        kind = self._common([part.type for part in arguments], tree)
        return Typed(tree.name, kind, tuple(self._in_type(part, kind) for part in arguments))

    def null_if(self, tree: Call, arguments: tuple[Typed, ...]) -> Typed:
        self.count(tree, 2, 2)
        test = Typed("compare", BOOLEAN, self._comparable(arguments[0], arguments[1], tree), "==")
        return Typed("null_if", arguments[0].type, (arguments[0], test))


_COMPARING = frozenset(("==", "!=", "<", "<=", ">", ">="))
_CHECKS: dict[type, Callable[[_Checker, Any], Typed]] = {
    LiteralValue: _Checker.literal, Reference: _Checker.reference, Unary: _Checker.unary,
    Binary: _Checker.binary, IsNull: _Checker.is_null, Among: _Checker.among,
    Conditional: _Checker.conditional, Cast: _Checker.cast, Call: _Checker.call,
}  # fmt: skip
_FUNCTION_CHECKS: tuple[tuple[frozenset[str], Callable[[_Checker, Call, tuple[Typed, ...]], Typed]], ...] = (
    (_TEXT_FUNCTIONS, _Checker.text_function),
    (frozenset(("length",)), _Checker.length),
    (frozenset(("join",)), _Checker.join),
    (frozenset(("part",)), _Checker.part),
    (frozenset(("replace",)), _Checker.replace),
    (_PATTERN_FUNCTIONS, _Checker.pattern),
    (frozenset((*_DATE_PARTS, *_TIME_PARTS)), _Checker.date_part),
    (frozenset(UNIT_MICROSECONDS), _Checker.span),
    (frozenset(_ROUNDINGS), _Checker.rounding),
    (frozenset(("abs",)), _Checker.absolute),
    (frozenset(("coalesce", "least", "most")), _Checker.chosen),
    (frozenset(("null_if",)), _Checker.null_if),
)


def family(kind: ColumnType | None) -> str:
    """Return what a type can be compared with: number, text, or its own name; null for none."""
    if kind is None:
        return "null"
    if is_number(kind):
        return "number"
    return "text" if kind.name in ("text", "uuid", "json") else kind.name


def shown(kind: ColumnType | None) -> str:
    """Return the name of a type, for messages."""
    return "null" if kind is None else str(kind)


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


def _references(tree: Expression) -> Iterator[Reference]:
    pending = [tree]
    while pending:
        part = pending.pop()
        if isinstance(part, Reference):
            yield part
        pending.extend(parts_of(part))
