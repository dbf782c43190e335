"""The profile of a path: what a survey wants to know of its values beyond what a layout needs."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from decimal import Decimal
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from tessaron.core.base.kinds import LANE_OF_KIND, Kind
from tessaron.core.base.text_lane import Int32s, Int64s, TextLane
from tessaron.core.shape.suspects import count_suspects
from tessaron.core.tape.distinct import KEPT, Distinct, hash_integers, hash_texts
from tessaron.core.tape.fragment import Node

_SHOWN_BYTES = 60
LONG_TEXT_BYTES = 4_000
"""Longer texts are very long ones."""


@dataclass(frozen=True, slots=True)
class Example:
    """A value and where it stands.

    Attributes:
        value: As JSON; a long one is cut.
        source: Name of the source; empty when it came as objects.
        line: The line where its record begins, from 1; None when it came as objects.
    """

    value: str
    source: str = ""
    line: int | None = None

    def __str__(self) -> str:
        place = f" ({self.source}, line {self.line})" if self.line is not None else ""
        return self.value + place


@dataclass(slots=True)
class Profile:
    """What was seen at one path. Merges in any order, but for the examples: there the first one stays.

    Attributes:
        distinct: The different values.
        least_text, most_text: The first and last text in the order of code points; very long ones are cut.
        least_number, most_number: The smallest and largest number that is no 64-bit integer, as written.
        shortest_text: Length of the shortest text in bytes; None without texts.
        long_texts: Texts longer than `LONG_TEXT_BYTES`.
        arrays, least_elements, most_elements, elements: How many arrays, and how many elements they have.
        suspects: How many texts look like something else, by the name of what (see `suspects`).
        examples: An example of each kind (by its name) and of each suspect.
    """

    distinct: Distinct = field(default_factory=Distinct)
    least_text: str | None = None
    most_text: str | None = None
    least_number: str | None = None
    most_number: str | None = None
    shortest_text: int | None = None
    long_texts: int = 0
    arrays: int = 0
    least_elements: int = 0
    most_elements: int = 0
    elements: int = 0
    suspects: dict[str, int] = field(default_factory=dict)
    examples: dict[str, Example] = field(default_factory=dict)

    def merge(self, other: Profile) -> None:
        """Take in what another has seen."""
        self.distinct.merge(other.distinct)
        self.least_text = _first_of(min, self.least_text, other.least_text)
        self.most_text = _first_of(max, self.most_text, other.most_text)
        self.least_number = _first_of(_least_number, self.least_number, other.least_number)
        self.most_number = _first_of(_most_number, self.most_number, other.most_number)
        self.shortest_text = _first_of(min, self.shortest_text, other.shortest_text)
        self.long_texts += other.long_texts
        if other.arrays:
            both = self.arrays > 0
            self.least_elements = (
                min(self.least_elements, other.least_elements) if both else other.least_elements
            )
            self.most_elements = max(self.most_elements, other.most_elements)
            self.arrays += other.arrays
            self.elements += other.elements
        for name, count in other.suspects.items():
            self.suspects[name] = self.suspects.get(name, 0) + count
        for name, example in other.examples.items():
            self.examples.setdefault(name, example)

    def without_arrays(self) -> Profile:
        """Return what was seen of all but arrays."""
        examples = {name: example for name, example in self.examples.items() if name != Kind.ARRAY.name}
        return replace(
            self, arrays=0, least_elements=0, most_elements=0, elements=0, examples=examples
        )  # fmt: skip

    def arrays_only(self) -> Profile:
        """Return what was seen of arrays."""
        made = Profile(
            arrays=self.arrays, least_elements=self.least_elements, most_elements=self.most_elements,
            elements=self.elements,
        )  # fmt: skip
        for name in (Kind.ARRAY.name, Kind.OBJECT.name):
            if name in self.examples:
                made.examples[name] = self.examples[name]
        return made


def _first_of(choose: Callable[[Any, Any], Any], mine: Any, theirs: Any) -> Any:
    if mine is None or theirs is None:
        return theirs if mine is None else mine
    return choose(mine, theirs)


def _least_number(mine: str, theirs: str) -> str:
    return min(mine, theirs, key=Decimal)


def _most_number(mine: str, theirs: str) -> str:
    return max(mine, theirs, key=Decimal)


Locate = Callable[[int], tuple[str, int | None]]
"""Gives the source and the line of the record to which a row of a node's level belongs."""


def profile_node(node: Node, element: Node | None, locate: Locate, are_read: bool = False) -> Profile:
    """Return the profile of what stands at a node of a fragment.

    Args:
        node: The node.
        element: The elements of its arrays, if it has any.
        locate: Finds the places of examples.
        are_read: Whether all texts are dates or the like.
    """
    profile = Profile()
    rows = node.rows_present()
    kinds = node.kinds
    for kind in np.unique(kinds).tolist():
        at = int(np.argmax(kinds == kind))
        example = value_at(node, kind, 0)
        profile.examples[Kind(kind).name] = Example(example, *locate(int(rows[at])))
    if len(node.booleans):
        _add_booleans(profile, node)
    if len(node.integers):
        values, counts = np.unique(node.integers, return_counts=True)
        texts = list(map(str, values.tolist())) if len(values) <= KEPT else None
        profile.distinct.add(hash_integers(values), counts, texts)
    if len(node.numbers):
        _add_numbers(profile, node.numbers)
    if len(node.texts):
        _add_texts(profile, node, locate, are_read)
    if (kinds == Kind.ARRAY).any():
        _add_arrays(profile, rows[kinds == Kind.ARRAY], element)
    return profile


def value_at(node: Node, kind: int, index: int) -> str:
    """Return the value of a kind at a place in its lane, as JSON; of other numbers the first of that kind."""
    if kind in (Kind.OBJECT, Kind.ARRAY, Kind.NULL):
        return {Kind.OBJECT: "{…}", Kind.ARRAY: "[…]", Kind.NULL: "null"}[Kind(kind)]
    if kind == Kind.BOOLEAN:
        return "true" if node.booleans[index] else "false"
    if kind == Kind.INTEGER:
        return str(int(node.integers[index]))
    if kind == Kind.TEXT:
        return quoted(_text_at(node.texts, index))
    in_lane = np.flatnonzero(
        np.isin(node.kinds, [k for k, lane in LANE_OF_KIND.items() if lane == "numbers"])
    )
    first = int(np.argmax(node.kinds[in_lane] == kind))
    return _text_at(node.numbers, first)[:_SHOWN_BYTES]


def _text_at(lane: TextLane, index: int) -> str:
    start, stop = int(lane.offsets[index]), int(lane.offsets[index + 1])
    return lane.data[start : min(stop, start + 4 * _SHOWN_BYTES)].tobytes().decode("utf-8", "ignore")


def quoted(text: str) -> str:
    """Return a text as JSON, cut where it is long."""
    cut = text if len(text) <= _SHOWN_BYTES else text[: _SHOWN_BYTES - 1] + "…"
    return json.dumps(cut, ensure_ascii=False)


def _add_booleans(profile: Profile, node: Node) -> None:
    yes = int(node.booleans.sum())
    for text, count in (("true", yes), ("false", len(node.booleans) - yes)):
        if count:
            key = hash_texts(TextLane.of([f"\0{text}"]))
            profile.distinct.add(key, np.array([count], np.int64), [text])


def _add_numbers(profile: Profile, lane: TextLane) -> None:
    found = pc.value_counts(lane.to_arrow())
    values, counts = found.field(0), found.field(1).to_numpy()
    texts = values.to_pylist() if len(values) <= KEPT else None
    profile.distinct.add(hash_texts(TextLane.of(values)) + np.uint64(1), counts, texts)
    # Doubles find the ends, but for numbers that lie closer together than doubles do.
    near = np.array([float(text) for text in values.to_pylist()]) if texts else None
    doubles = near if near is not None else pc.cast(values, pa.float64()).to_numpy()
    lows = values.filter(pa.array(doubles == doubles.min())).to_pylist()
    highs = values.filter(pa.array(doubles == doubles.max())).to_pylist()
    profile.least_number, profile.most_number = min(lows, key=Decimal), max(highs, key=Decimal)


def _add_texts(profile: Profile, node: Node, locate: Locate, are_read: bool) -> None:
    lane = node.texts
    found = pc.value_counts(lane.to_arrow())
    values, counts = found.field(0), found.field(1).to_numpy()
    different = TextLane.of(values)
    texts = [quoted_fully(text) for text in values.to_pylist()] if len(values) <= KEPT else None
    profile.distinct.add(hash_texts(different), counts, texts)
    ends = pc.min_max(values)
    profile.least_text, profile.most_text = (_cut(ends[name].as_py()) for name in ("min", "max"))
    lengths = lane.byte_lengths
    profile.shortest_text = int(lengths.min())
    profile.long_texts = int((lengths > LONG_TEXT_BYTES).sum())
    firsts: dict[str, str] = {}
    for name, count, text in count_suspects(different, counts, are_read):
        profile.suspects[name] = count
        firsts[name] = text
    if profile.long_texts:
        firsts["very long"] = _text_at(lane, int(np.argmax(lengths > LONG_TEXT_BYTES)))
    if firsts:
        _place_examples(profile, node, firsts, locate)


def _cut(text: str) -> str:
    """Return a text, of a very long one the beginning, which says that more follows."""
    return text if len(text) <= LONG_TEXT_BYTES else text[: LONG_TEXT_BYTES - 1] + "…"


def quoted_fully(text: str) -> str:
    """Return a text as JSON, cut only where it is very long."""
    return json.dumps(_cut(text), ensure_ascii=False)


def _place_examples(profile: Profile, node: Node, firsts: dict[str, str], locate: Locate) -> None:
    """Find the rows of texts that are examples."""
    rows = node.rows_present()[node.kinds == Kind.TEXT]
    texts = node.texts.to_arrow()
    for name, text in firsts.items():
        at = pc.index(texts, pa.scalar(text, pa.large_string())).as_py()
        at = at if at >= 0 else int(np.argmax(node.texts.byte_lengths > LONG_TEXT_BYTES))
        profile.examples[name] = Example(quoted(text), *locate(int(rows[at])))


def _add_arrays(profile: Profile, rows: Int32s, element: Node | None) -> None:
    parents = element.parent_rows if element is not None else rows[:0]
    lengths: Int64s = np.searchsorted(parents, rows, side="right") - np.searchsorted(parents, rows)
    profile.arrays = len(rows)
    profile.least_elements, profile.most_elements = int(lengths.min()), int(lengths.max())
    profile.elements = int(lengths.sum())
