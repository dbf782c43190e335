"""The function extensions of RFC 9535 section 2.4, and the types of what they take and give."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from enum import Enum
from typing import Any

from tessaron.core.base.parsed_values import NumberText, Pairs, Parsed
from tessaron.core.query.iregexp import parse_iregexp


class Sort(Enum):
    """The types of section 2.4.1."""

    VALUE = "a value"
    LOGICAL = "a condition"
    NODES = "a path"


class Nothing(Enum):
    """The absence of a value (section 2.4.1); it differs from null."""

    NOTHING = "nothing"


NOTHING = Nothing.NOTHING


@dataclass(frozen=True, slots=True)
class Function:
    """A function: what it takes, what it gives, and how."""

    takes: tuple[Sort, ...]
    gives: Sort
    compute: Callable[..., Any]


def is_text(value: Parsed) -> bool:
    """Say whether a parsed value is a text of JSON."""
    return isinstance(value, str) and not isinstance(value, NumberText)


def _length(value: Parsed) -> Parsed:
    return len(value) if is_text(value) or isinstance(value, (list, dict, Pairs)) else NOTHING


def _value(nodes: list[Parsed]) -> Parsed:
    return nodes[0] if len(nodes) == 1 else NOTHING


def _match(text: Parsed, pattern: Parsed) -> bool:
    found = parse_iregexp(pattern) if is_text(text) and is_text(pattern) else None
    return found is not None and found.matches(text)


def _search(text: Parsed, pattern: Parsed) -> bool:
    found = parse_iregexp(pattern) if is_text(text) and is_text(pattern) else None
    return found is not None and found.occurs_in(text)


FUNCTIONS = {
    "length": Function((Sort.VALUE,), Sort.VALUE, _length),
    "count": Function((Sort.NODES,), Sort.VALUE, len),
    "match": Function((Sort.VALUE, Sort.VALUE), Sort.LOGICAL, _match),
    "search": Function((Sort.VALUE, Sort.VALUE), Sort.LOGICAL, _search),
    "value": Function((Sort.NODES,), Sort.VALUE, _value),
}
