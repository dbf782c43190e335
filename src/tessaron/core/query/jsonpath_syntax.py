"""What a parsed JSONPath consists of (RFC 9535): plain data, as the parser makes it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any


@dataclass(frozen=True, slots=True)
class NameSelector:
    """Selects the member of that name."""

    name: str


@dataclass(frozen=True, slots=True)
class Wildcard:
    """Selects all members of an object, all elements of an array."""


@dataclass(frozen=True, slots=True)
class Index:
    """Selects one element, counted from 0, or from the end if negative."""

    index: int


@dataclass(frozen=True, slots=True)
class Slice:
    """Selects elements from `start` to `stop` (exclusive) by `step` (section 2.3.4)."""

    start: int | None
    stop: int | None
    step: int


@dataclass(frozen=True, slots=True)
class Filter:
    """Selects the members or elements for which `condition` holds."""

    condition: Condition


Selector = NameSelector | Wildcard | Index | Slice | Filter


@dataclass(frozen=True, slots=True)
class Segment:
    """One step: selectors applied to the children of a value, or to all its descendants too."""

    selectors: tuple[Selector, ...]
    descends: bool = False


@dataclass(frozen=True, slots=True)
class Query:
    """A path inside a filter, from the document (`$`) or from the value that is tested (`@`)."""

    segments: tuple[Segment, ...]
    from_root: bool

    def is_singular(self) -> bool:
        """Say whether it can select one value at most (section 2.3.5.1)."""
        return all(
            not segment.descends
            and len(segment.selectors) == 1
            and isinstance(segment.selectors[0], (NameSelector, Index))
            for segment in self.segments
        )


@dataclass(frozen=True, slots=True)
class Literal:
    """A text, number (int or Decimal), true, false or null."""

    value: Any


@dataclass(frozen=True, slots=True)
class FunctionCall:
    """A function extension (section 2.4) with its arguments."""

    name: str
    arguments: tuple[Operand, ...]


Operand = Literal | Query | FunctionCall


@dataclass(frozen=True, slots=True)
class ComparisonExpr:
    """Two values compared by one of `== != < <= > >=`."""

    left: Operand
    operator: str
    right: Operand


@dataclass(frozen=True, slots=True)
class Exists:
    """Whether a query selects anything, or a logical function says yes."""

    operand: Query | FunctionCall


@dataclass(frozen=True, slots=True)
class Not:
    """The opposite."""

    condition: Condition


@dataclass(frozen=True, slots=True)
class All:
    """Conditions joined by `&&`."""

    conditions: tuple[Condition, ...]


@dataclass(frozen=True, slots=True)
class AnyOf:
    """Conditions joined by `||`."""

    conditions: tuple[Condition, ...]


Condition = ComparisonExpr | Exists | Not | All | AnyOf


def uses_root(segment: Segment) -> bool:
    """Say whether a filter in the segment looks at the whole document."""
    pending: list[Any] = list(segment.selectors)
    while pending:
        part = pending.pop()
        match part:
            case Filter(condition):
                pending.append(condition)
            case Query(segments, from_root):
                if from_root:
                    return True
                pending += [selector for inner in segments for selector in inner.selectors]
            case FunctionCall(_, operands) | All(operands) | AnyOf(operands):
                pending += operands
            case ComparisonExpr(left, _, right):
                pending += [left, right]
            case Exists(inner) | Not(inner):
                pending.append(inner)
    return False
