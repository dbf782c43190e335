"""Evaluating a parsed JSONPath on a parsed document, in the order of RFC 9535, without recursion in depth."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from decimal import Decimal
from typing import Any

from tessaron.core.base.parsed_values import NumberText, Pairs, Parsed
from tessaron.core.base.paths import Location
from tessaron.core.query.jsonpath_functions import FUNCTIONS, NOTHING, Sort, is_text
from tessaron.core.query.jsonpath_syntax import (
    All,
    AnyOf,
    ComparisonExpr,
    Condition,
    Exists,
    Filter,
    FunctionCall,
    Index,
    Literal,
    NameSelector,
    Not,
    Operand,
    Query,
    Segment,
    Selector,
    Slice,
    Wildcard,
)


class Match:
    """A value found, and the way to it.

    Attributes:
        value: The value, as it was parsed.
        step: The name of the member or the index of the element that it is; None for the document.
        above: The match it is a child of.
    """

    __slots__ = ("above", "step", "value")

    def __init__(self, value: Parsed, step: str | int | None = None, above: Match | None = None):
        self.value = value
        self.step = step
        self.above = above

    @property
    def location(self) -> Location:
        """The names and indices that lead to it."""
        steps: list[str | int] = []
        here: Match | None = self
        while here is not None and here.step is not None:
            steps.append(here.step)
            here = here.above
        return tuple(reversed(steps))

    @property
    def key(self) -> str | None:
        """The name of the member that it is, if it is one."""
        return self.step if isinstance(self.step, str) else None


def find_matches(
    segments: tuple[Segment, ...], start: Match, root: Parsed, counts: list[int] | None = None
) -> Iterator[Match]:
    """Yield what the segments select from `start`, in order.

    Args:
        segments: The segments of the path.
        start: Objects are dicts or `Pairs`, numbers beyond 64 bits and fractions `NumberText`.
        root: The document.
        counts: Is added to: how many values the last of the segments matched, the one before, and so on,
            at the end of the list; so that the start counts at `-1 - len(segments)`.
    """
    open_segments: list[Iterator[Match]] = [iter((start,))]
    deepest = len(segments) + 1
    while open_segments:
        match = next(open_segments[-1], None)
        depth = len(open_segments)
        if match is None:
            open_segments.pop()
            continue
        if counts is not None:
            counts[depth - deepest - 1] += 1
        if depth == deepest:
            yield match
        else:
            open_segments.append(_apply(segments[depth - 1], match, root))


def _apply(segment: Segment, match: Match, root: Parsed) -> Iterator[Match]:
    for start in _descendants(match) if segment.descends else (match,):
        for selector in segment.selectors:
            yield from _SELECT[type(selector)](selector, start, root)


def _descendants(match: Match) -> Iterator[Match]:
    pending = [match]
    while pending:
        found = pending.pop()
        yield found
        if isinstance(found.value, (list, dict, Pairs)):
            pending.extend(reversed(list(children(found))))


def children(match: Match) -> Iterator[Match]:
    """Yield the members of an object or the elements of an array; nothing for a scalar."""
    value = match.value
    if isinstance(value, dict):
        for name, item in value.items():
            yield Match(item, name, match)
    elif isinstance(value, Pairs):
        for name, item in value:
            yield Match(item, name, match)
    elif isinstance(value, list):
        for index, item in enumerate(value):
            yield Match(item, index, match)


def _select_name(selector: NameSelector, match: Match, root: Parsed) -> Iterator[Match]:
    value = match.value
    if isinstance(value, dict):
        if selector.name in value:
            yield Match(value[selector.name], selector.name, match)
    elif isinstance(value, Pairs):
        for name, item in value:
            if name == selector.name:
                yield Match(item, name, match)


def _select_all(selector: Wildcard, match: Match, root: Parsed) -> Iterator[Match]:
    return children(match)


def _select_index(selector: Index, match: Match, root: Parsed) -> Iterator[Match]:
    value, index = match.value, selector.index
    if isinstance(value, list) and -len(value) <= index < len(value):
        yield Match(value[index], index if index >= 0 else len(value) + index, match)


def _select_slice(selector: Slice, match: Match, root: Parsed) -> Iterator[Match]:
    value = match.value
    if isinstance(value, list) and selector.step:
        for index in range(*slice(selector.start, selector.stop, selector.step).indices(len(value))):
            yield Match(value[index], index, match)


def _select_filter(selector: Filter, match: Match, root: Parsed) -> Iterator[Match]:
    for child in children(match):
        if holds(selector.condition, child.value, root):
            yield child


_SELECT: dict[type[Selector], Callable[[Any, Match, Any], Iterator[Match]]] = {
    NameSelector: _select_name,
    Wildcard: _select_all,
    Index: _select_index,
    Slice: _select_slice,
    Filter: _select_filter,
}


def holds(condition: Condition, value: Parsed, root: Parsed) -> bool:
    """Say whether a condition of a filter holds for `value` (section 2.3.5.2.2)."""
    match condition:
        case AnyOf(conditions):
            return any(holds(each, value, root) for each in conditions)
        case All(conditions):
            return all(holds(each, value, root) for each in conditions)
        case Not(inner):
            return not holds(inner, value, root)
        case Exists(Query() as query):
            return next(_nodes(query, value, root), None) is not None
        case Exists(FunctionCall() as call):
            return bool(_result(call, value, root))
        case ComparisonExpr(left, operator, right):
            return _COMPARE[operator](_operand(left, value, root), _operand(right, value, root))
    raise AssertionError(condition)


def _nodes(query: Query, value: Parsed, root: Parsed) -> Iterator[Match]:
    return find_matches(query.segments, Match(root if query.from_root else value), root)


def _operand(operand: Operand, value: Parsed, root: Parsed) -> Parsed:
    match operand:
        case Literal(constant):
            return constant
        case Query():
            found = next(_nodes(operand, value, root), None)
            return NOTHING if found is None else found.value
        case FunctionCall():
            return _result(operand, value, root)


def _result(call: FunctionCall, value: Parsed, root: Parsed) -> Parsed:
    function = FUNCTIONS[call.name]
    arguments = [
        [node.value for node in _nodes(argument, value, root)]
        if sort is Sort.NODES and isinstance(argument, Query)
        else _operand(argument, value, root)
        for argument, sort in zip(call.arguments, function.takes, strict=True)
    ]
    return function.compute(*arguments)


def number_of(value: Parsed) -> int | Decimal | None:
    """Return the number that a parsed value is, exactly; None if it is none."""
    if isinstance(value, bool):
        return None
    if isinstance(value, (int, Decimal)):
        return value
    if isinstance(value, float):
        return Decimal(repr(value))
    return Decimal(value) if isinstance(value, NumberText) else None


def are_equal(left: Parsed, right: Parsed) -> bool:
    """Say whether two parsed values are equal (section 2.3.5.2.2), numbers as numbers, without recursion."""
    pending = [(left, right)]
    while pending:
        left, right = pending.pop()
        left, right = _as_dict(left), _as_dict(right)
        if isinstance(left, dict) and isinstance(right, dict):
            if left.keys() != right.keys():
                return False
            pending.extend((left[name], right[name]) for name in left)
        elif isinstance(left, list) and isinstance(right, list):
            if len(left) != len(right):
                return False
            pending.extend(zip(left, right, strict=True))
        elif not _are_equal_scalars(left, right):
            return False
    return True


def _as_dict(value: Parsed) -> Parsed:
    return dict(value) if isinstance(value, Pairs) else value


def _are_equal_scalars(left: Parsed, right: Parsed) -> bool:
    numbers = number_of(left), number_of(right)
    if numbers != (None, None):
        return numbers[0] == numbers[1]
    return type(left) is type(right) and bool(left == right)


def _is_less(left: Parsed, right: Parsed) -> bool:
    if is_text(left) and is_text(right):
        return bool(left < right)
    first, second = number_of(left), number_of(right)
    return first is not None and second is not None and first < second


_COMPARE: dict[str, Callable[[Any, Any], bool]] = {
    "==": are_equal,
    "!=": lambda left, right: not are_equal(left, right),
    "<": _is_less,
    "<=": lambda left, right: _is_less(left, right) or are_equal(left, right),
    ">": lambda left, right: _is_less(right, left),
    ">=": lambda left, right: _is_less(right, left) or are_equal(left, right),
}
