"""Checking functions of one row: how many arguments, of which types, and what comes out."""

from __future__ import annotations

from collections.abc import Callable

from tessaron.core.base.visible import in_quotes
from tessaron.core.expressions.arithmetic import rounded_type
from tessaron.core.expressions.checker import Checker
from tessaron.core.expressions.dates import SPAN, UNIT_MICROSECONDS
from tessaron.core.expressions.syntax import Call
from tessaron.core.expressions.typed import Typed, family, shown
from tessaron.core.query.iregexp import parse_iregexp
from tessaron.core.types.column_types import BOOLEAN, INTEGER, TEXT

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


def check_function(checker: Checker, tree: Call, arguments: tuple[Typed, ...]) -> Typed:
    """Return the checked form of a function of one row, whose arguments are checked."""
    for names, check in _FUNCTION_CHECKS:
        if tree.name in names:
            return check(checker, tree, arguments)
    raise AssertionError(tree.name)


def _text_function(checker: Checker, tree: Call, arguments: tuple[Typed, ...]) -> Typed:
    checker.count(tree, 1, 1)
    return Typed(tree.name, TEXT, (checker.expect(arguments[0], "text", tree.arguments[0]),))


def _length(checker: Checker, tree: Call, arguments: tuple[Typed, ...]) -> Typed:
    checker.count(tree, 1, 1)
    return Typed("length", INTEGER, (checker.expect(arguments[0], "text", tree.arguments[0]),))


def _join(checker: Checker, tree: Call, arguments: tuple[Typed, ...]) -> Typed:
    checker.count(tree, 2)
    separator = checker.constant(tree.arguments[0], str, tree)
    parts = [checker.as_text(part, at) for part, at in zip(arguments[1:], tree.arguments[1:], strict=True)]
    return Typed("join", TEXT, tuple(parts), separator)


def _part(checker: Checker, tree: Call, arguments: tuple[Typed, ...]) -> Typed:
    checker.count(tree, 2, 3)
    checker.expect(arguments[0], "text", tree.arguments[0])
    numbers = [checker.constant(argument, int, tree) for argument in tree.arguments[1:]]
    if numbers[0] < 1 or numbers[-1] < 0:
        checker.fail("part counts characters from 1, and takes no fewer than none", tree.arguments[1].at)
    return Typed("part", TEXT, arguments[:1], tuple(numbers))


def _replace(checker: Checker, tree: Call, arguments: tuple[Typed, ...]) -> Typed:
    checker.count(tree, 3, 3)
    checker.expect(arguments[0], "text", tree.arguments[0])
    words = tuple(checker.constant(argument, str, tree) for argument in tree.arguments[1:])
    return Typed("replace", TEXT, arguments[:1], words)


def _pattern(checker: Checker, tree: Call, arguments: tuple[Typed, ...]) -> Typed:
    checker.count(tree, 2, 2)
    checker.expect(arguments[0], "text", tree.arguments[0])
    word = checker.constant(tree.arguments[1], str, tree)
    if tree.name == "matches" and parse_iregexp(word) is None:
        checker.fail(f"{in_quotes(word)} is no regular expression of RFC 9485", tree.arguments[1].at)
    return Typed(tree.name, BOOLEAN, arguments[:1], word)


def _date_part(checker: Checker, tree: Call, arguments: tuple[Typed, ...]) -> Typed:
    checker.count(tree, 1, 1)
    kinds = ("date", *_TIMES) if tree.name in _DATE_PARTS else ("time", *_TIMES)
    if family(arguments[0].type) not in (*kinds, "null"):
        checker.fail(f"expected {' or '.join(kinds)}, got {shown(arguments[0].type)}", tree.arguments[0].at)
    return Typed("date_part", (_DATE_PARTS | _TIME_PARTS)[tree.name], arguments, tree.name)


def _span(checker: Checker, tree: Call, arguments: tuple[Typed, ...]) -> Typed:
    checker.count(tree, 2, 2)
    pair = checker.comparable(arguments[0], arguments[1], tree)
    kinds = {family(part.type) for part in pair} - {"null"}
    if not kinds <= {"date", *_TIMES}:
        checker.fail(f"expected dates or timestamps, got {shown(arguments[0].type)}", tree.arguments[0].at)
    is_date = kinds == {"date"}
    return Typed(tree.name, INTEGER if is_date else SPAN, pair, "date" if is_date else "time")


def _rounding(checker: Checker, tree: Call, arguments: tuple[Typed, ...]) -> Typed:
    checker.count(tree, 1, 2 if tree.name == "round" else 1)
    inner = checker.expect(arguments[0], "number", tree.arguments[0])
    digits = checker.constant(tree.arguments[1], int, tree) if len(arguments) > 1 else 0
    return Typed(
        "round", rounded_type(inner.type or INTEGER, digits), (inner,), (digits, _ROUNDINGS[tree.name])
    )


def _absolute(checker: Checker, tree: Call, arguments: tuple[Typed, ...]) -> Typed:
    checker.count(tree, 1, 1)
    inner = checker.expect(arguments[0], "number", tree.arguments[0])
    return Typed("abs", inner.type or INTEGER, (inner,))


def _chosen(checker: Checker, tree: Call, arguments: tuple[Typed, ...]) -> Typed:
    checker.count(tree, 2)
    kind = checker.common([part.type for part in arguments], tree)
    return Typed(tree.name, kind, tuple(checker.in_type(part, kind) for part in arguments))


def _null_if(checker: Checker, tree: Call, arguments: tuple[Typed, ...]) -> Typed:
    checker.count(tree, 2, 2)
    test = Typed("compare", BOOLEAN, checker.comparable(arguments[0], arguments[1], tree), "==")
    return Typed("null_if", arguments[0].type, (arguments[0], test))


_FUNCTION_CHECKS: tuple[tuple[frozenset[str], Callable[[Checker, Call, tuple[Typed, ...]], Typed]], ...] = (
    (_TEXT_FUNCTIONS, _text_function),
    (frozenset(("length",)), _length),
    (frozenset(("join",)), _join),
    (frozenset(("part",)), _part),
    (frozenset(("replace",)), _replace),
    (_PATTERN_FUNCTIONS, _pattern),
    (frozenset((*_DATE_PARTS, *_TIME_PARTS)), _date_part),
    (frozenset(UNIT_MICROSECONDS), _span),
    (frozenset(_ROUNDINGS), _rounding),
    (frozenset(("abs",)), _absolute),
    (frozenset(("coalesce", "least", "most")), _chosen),
    (frozenset(("null_if",)), _null_if),
)
