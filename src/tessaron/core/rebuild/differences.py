"""What is different between a record and what was made of its rows, place by place."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from lxml import etree

from tessaron.core.base.json_text import json_text
from tessaron.core.base.parsed_values import NumberText, Pairs, Parsed
from tessaron.core.base.paths import Location, format_location, quote_name
from tessaron.core.kernel.careful_json import parse_carefully
from tessaron.core.kernel.xml_parsing import safe_parser
from tessaron.core.rebuild.record_digests import plain_number

_LONGEST = 60
_NOTHING = object()
KINDS = {
    "missing": "stands in the source, not in the tables",
    "extra": "stands in the tables, not in the source",
    "value": "another value",
    "kind": "the same text as another kind of value",
    "empty": "null, empty or absent, but not the same of them",
    "digits": "the same number written otherwise",
    "order": "elements in another order",
    "place": "the same, but in another of several elements around the records",
    "record missing": "a record of the source is not in the tables",
    "record extra": "a record of the tables is not in the source",
}
"""The kinds of difference, and what each means."""


@dataclass(frozen=True, slots=True)
class Difference:
    """One difference inside a record.

    Attributes:
        kind: A key of `KINDS`.
        path: Where, for all records alike: `$.stays[*].berth`, or for XML `stays/stay/@berth`.
        place: Where in this record: `$['stays'][0]['berth']`, or for XML `stays[1]/stay[2]/@berth`.
        source: What stands in the source, shortened; empty if nothing does.
        tables: What the tables make of it, shortened.
        location: For JSON: the place as names and indices.
    """

    kind: str
    path: str
    place: str
    source: str = ""
    tables: str = ""
    location: Location = ()


def differences(source: str, tables: str, exact: bool) -> Iterator[Difference]:
    """Yield the differences between two records of JSON, given as texts, in the order of the source.

    Args:
        source: The record as it stands in the source.
        tables: The record made of its rows.
        exact: Whether null, empty and absent are told apart, and spellings of numbers.
    """
    left, right = _leaves(source), _leaves(tables)
    for location, value in left.items():
        other = right.get(location, _NOTHING)
        kind = _kind(value, other, exact)
        if kind:
            yield _difference(kind, location, value, other)
    for location, value in right.items():
        if location not in left:
            kind = _kind(_NOTHING, value, exact)
            if kind:
                yield _difference(kind, location, _NOTHING, value)


def _leaves(text: str) -> dict[Location, Parsed]:
    """Return all scalars, nulls and empty objects and arrays of a document by their place."""
    document, _ = parse_carefully(text, _start(text))
    found: dict[Location, Any] = {}
    pending: list[tuple[Location, Any]] = [((), document)]
    while pending:
        location, value = pending.pop()
        if isinstance(value, (dict, Pairs)) and value:
            members = dict(value.items() if isinstance(value, dict) else value)
            pending.extend(reversed([((*location, name), item) for name, item in members.items()]))
        elif isinstance(value, list) and value:
            pending.extend(reversed([((*location, index), item) for index, item in enumerate(value)]))
        else:
            found[location] = value
    return found


def _start(text: str) -> int:
    return len(text) - len(text.lstrip(" \t\r\n,"))


def _is_hollow(value: Parsed) -> bool:
    return value is None or (isinstance(value, (dict, list, Pairs)) and not value)


def _kind(value: Parsed, other: Parsed, exact: bool) -> str:
    """Return how two values differ; empty if they count as the same."""
    if value is _NOTHING or other is _NOTHING:
        known = other if value is _NOTHING else value
        if _is_hollow(known):
            return "empty" if exact else ""
        return "extra" if value is _NOTHING else "missing"
    if _is_hollow(value) and _is_hollow(other):
        return "empty" if exact and json_text(value) != json_text(other) else ""
    if _is_hollow(value) or _is_hollow(other):
        return "extra" if _is_hollow(value) else "missing"
    if _is_number(value) and _is_number(other):
        if plain_number(_digits(value)) != plain_number(_digits(other)):
            return "value"
        return "digits" if exact and _digits(value) != _digits(other) else ""
    if isinstance(value, bool) is isinstance(other, bool) and type(value) is type(other):
        return "" if value == other else "value"
    return "kind" if _shown(value).strip('"') == _shown(other).strip('"') else "value"


def _is_number(value: Parsed) -> bool:
    return isinstance(value, (int, NumberText)) and not isinstance(value, bool)


def _digits(value: Parsed) -> str:
    return json_text(value)


def _difference(kind: str, location: Location, value: Parsed, other: Parsed) -> Difference:
    path = "$" + "".join("[*]" if isinstance(step, int) else _step(step) for step in location)
    return Difference(kind, path, format_location(location), _shown(value), _shown(other), location)


def _step(name: str) -> str:
    return f".{name}" if name.isidentifier() and name.isascii() else quote_name(name)


def _shown(value: Parsed) -> str:
    if value is _NOTHING:
        return ""
    text = json_text(value, ascii_only=False)
    return text if len(text) <= _LONGEST else text[: _LONGEST - 1] + "…"


def xml_differences(source: str, tables: str, exact: bool) -> Iterator[Difference]:
    """Yield the differences between two elements of XML; else as `differences`.

    Each is given as the text of a document whose outermost element holds nothing but the one in question, and
    declares what it needs.
    """
    left, right = _xml_leaves(source), _xml_leaves(tables)
    found = [*_leaf_differences(left, right, exact)]
    # White space at the ends counts where it was kept; it is looked at only where nothing else is found.
    yield from found or _leaf_differences(_xml_leaves(source, False), _xml_leaves(tables, False), exact)
    if exact and not any(True for place in left if place not in right):
        others = _orders(tables)
        for place, (shown, tags) in _orders(source).items():
            _, theirs = others.get(place, (shown, tags))
            if tags != theirs:
                yield Difference("order", shown, shown, _cut(" ".join(tags)), _cut(" ".join(theirs)))


def _leaf_differences(left: dict[str, _Leaf], right: dict[str, _Leaf], exact: bool) -> Iterator[Difference]:
    for place, leaf in left.items():
        other = right.get(place)
        kind = _leaf_kind(leaf, other, exact)
        if kind:
            yield Difference(
                kind, leaf.path, leaf.place, _cut(leaf.value), _cut(other.value if other else "")
            )
    for place, leaf in right.items():
        if place not in left and (leaf.value or (exact and leaf.is_hollow)):
            yield Difference("extra" if leaf.value else "empty", leaf.path, leaf.place, "", _cut(leaf.value))


def _leaf_kind(leaf: _Leaf, other: _Leaf | None, exact: bool) -> str:
    """Return how what stands at one place differs; empty if it counts as the same."""
    if other is None:
        return "missing" if leaf.value else "empty" if exact and leaf.is_hollow else ""
    if leaf.value == other.value or _same_number(leaf.value, other.value, exact):
        return ""
    return "value"


_NUMBER = re.compile(r"-?[0-9]+(\.[0-9]+)?([eE][-+]?[0-9]+)?")


def _same_number(value: str, other: str, exact: bool) -> bool:
    if exact or not (_NUMBER.fullmatch(value) and _NUMBER.fullmatch(other)):
        return False
    return plain_number(value) == plain_number(other)


def _cut(text: str) -> str:
    if text != text.strip():
        text = f'"{text}"'
    return text if len(text) <= _LONGEST else text[: _LONGEST - 1] + "…"


@dataclass(frozen=True, slots=True)
class _Spot:
    """Where an element stands: by the whole names on the way, and as paths show it."""

    key: str
    path: str
    place: str

    def below(self, tag: str, shown: str, position: int) -> _Spot:
        return _Spot(
            f"{self.key}/{tag}[{position}]",
            f"{self.path}/{shown}".lstrip("/"),
            f"{self.place}/{shown}[{position}]".lstrip("/"),
        )


@dataclass(frozen=True, slots=True)
class _Leaf:
    path: str
    place: str
    value: str
    is_hollow: bool
    """Whether nothing stands in it, and it is all there is: no element with others in it."""


def _walk(text: str) -> Iterator[tuple[Parsed, _Spot]]:
    outer = etree.fromstring(text.encode(), safe_parser(text.encode()))
    pending = [(child, _Spot("", "", "")) for child in outer.iterchildren("*")][:1]
    while pending:
        element, spot = pending.pop()
        yield element, spot
        counts: dict[str, int] = {}
        below = []
        for child in element.iterchildren("*"):
            counts[child.tag] = counts.get(child.tag, 0) + 1
            below.append((child, spot.below(child.tag, _shown_name(child), counts[child.tag])))
        pending.extend(reversed(below))


def _shown_name(element: Parsed) -> str:
    local = str(etree.QName(element).localname)
    return f"{element.prefix}:{local}" if element.prefix else local


def _xml_leaves(text: str, is_stripped: bool = True) -> dict[str, _Leaf]:
    found: dict[str, _Leaf] = {}
    for element, spot in _walk(text):
        prefixes = {namespace: prefix for prefix, namespace in element.nsmap.items() if prefix}
        for name, value in element.attrib.items():
            parts = etree.QName(name)
            prefix = prefixes.get(parts.namespace or "")
            own = f"@{prefix}:{parts.localname}" if prefix else f"@{parts.localname}"
            path, place = (f"{each}/{own}".lstrip("/") for each in (spot.path, spot.place))
            found[f"{spot.key}/@{name}"] = _Leaf(path, place, value, not value)
        pieces = "".join([element.text or "", *(child.tail or "" for child in element)])
        value = pieces.strip() if is_stripped else pieces
        is_hollow = not (value or len(element) or element.attrib)
        found[spot.key] = _Leaf(spot.path or ".", spot.place or ".", value, is_hollow)
    return found


def _orders(text: str) -> dict[str, tuple[str, list[str]]]:
    return {
        spot.key: (spot.place or ".", [_shown_name(child) for child in element.iterchildren("*")])
        for element, spot in _walk(text)
    }
