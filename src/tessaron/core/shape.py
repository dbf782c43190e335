"""The shape: the merged structure of all records seen. Merging is associative and commutative."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass, field

import numpy as np

from tessaron.core.fragment import Fragment, Node, Role
from tessaron.core.kinds import KIND_COUNT, SCALAR_KINDS, Kind
from tessaron.core.paths import ELEMENT, Path, Step
from tessaron.core.typing.numbers import NO_NUMBERS, NumberStats, measure_numbers
from tessaron.core.typing.readings import Reading, count_readings


@dataclass(slots=True)
class ShapeNode:
    """What was met at one path.

    Attributes:
        path: Where, from the record down.
        row_count: Rows of the level that the path belongs to (records, or elements of an array).
        counts: Occurrences per `Kind` code.
        position_sum: Sum of the places among the members of the object; tells the usual order of members.
        least_integer, most_integer: Range of the 64-bit integers; None if there are none.
        numbers: What the other numbers need.
        text_count: Texts seen.
        longest_text: Length of the longest text, in bytes.
        readings: How many of the texts each reading fits.
        members: The members below, by name.
        element: The elements below, if it was ever an array.
    """

    path: Path
    row_count: int = 0
    counts: list[int] = field(default_factory=lambda: [0] * KIND_COUNT)
    position_sum: int = 0
    least_integer: int | None = None
    most_integer: int | None = None
    numbers: NumberStats = NO_NUMBERS
    longest_text: int = 0
    readings: Counter[Reading] = field(default_factory=Counter)
    members: dict[str, ShapeNode] = field(default_factory=dict)
    element: ShapeNode | None = None

    @property
    def occurrences(self) -> int:
        """How often anything stands here, null included."""
        return sum(self.counts)

    @property
    def usual_position(self) -> float:
        """The mean place among the members of the object, from 0."""
        return self.position_sum / max(self.occurrences, 1)

    def scalar_kinds(self) -> list[Kind]:
        """Return the kinds met that carry a value into a column."""
        return [kind for kind in SCALAR_KINDS if self.counts[kind]]

    def ordered_members(self) -> list[ShapeNode]:
        """Return the members in their usual order; it does not depend on the order of the records."""
        return sorted(self.members.values(), key=lambda node: (node.usual_position, node.path[-1:]))

    def child(self, step: Step) -> ShapeNode:
        """Return the node one step below, made if it is not there yet."""
        if step is ELEMENT:
            self.element = self.element or ShapeNode((*self.path, ELEMENT))
            return self.element
        assert isinstance(step, str)
        node = self.members.get(step)
        if node is None:
            node = self.members[step] = ShapeNode((*self.path, step))
        return node


class Shape:
    """The structure of all records added so far."""

    def __init__(self) -> None:
        self.record = ShapeNode(())

    @property
    def record_count(self) -> int:
        """Records seen."""
        return self.record.row_count

    def add(self, fragment: Fragment) -> None:
        """Take in the records of a fragment."""
        targets: list[ShapeNode] = []
        for node in fragment.nodes:
            if node.role is Role.RECORD:
                target = self.record
            else:
                target = targets[node.parent].child(ELEMENT if node.name is None else node.name)
            _add_node(target, node)
            targets.append(target)

    def merge(self, other: Shape) -> None:
        """Take in all that `other` has seen."""
        pending = [(self.record, other.record)]
        while pending:
            mine, theirs = pending.pop()
            _merge_node(mine, theirs)
            pending.extend((mine.child(name), node) for name, node in theirs.members.items())
            if theirs.element is not None:
                pending.append((mine.child(ELEMENT), theirs.element))


def _add_node(target: ShapeNode, node: Node) -> None:
    if node.role is not Role.MEMBER:
        target.row_count += node.row_count
    counts = np.bincount(node.kinds, minlength=KIND_COUNT).tolist()
    target.counts = [a + b for a, b in zip(target.counts, counts, strict=True)]
    if len(node.positions) == 1:
        target.position_sum += int(node.positions[0]) * len(node.kinds)
    elif len(node.positions):
        target.position_sum += int(node.positions.sum(dtype=np.int64))
    if len(node.integers):
        _widen_integers(target, int(node.integers.min()), int(node.integers.max()))
    if len(node.numbers):
        target.numbers = target.numbers.merge(measure_numbers(node.numbers))
    if len(node.texts):
        target.longest_text = max(target.longest_text, int(node.texts.byte_lengths.max()))
        target.readings.update(count_readings(node.texts))


def _merge_node(mine: ShapeNode, theirs: ShapeNode) -> None:
    mine.row_count += theirs.row_count
    mine.counts = [a + b for a, b in zip(mine.counts, theirs.counts, strict=True)]
    mine.position_sum += theirs.position_sum
    if theirs.least_integer is not None and theirs.most_integer is not None:
        _widen_integers(mine, theirs.least_integer, theirs.most_integer)
    mine.numbers = mine.numbers.merge(theirs.numbers)
    mine.longest_text = max(mine.longest_text, theirs.longest_text)
    mine.readings.update(theirs.readings)


def _widen_integers(target: ShapeNode, least: int, most: int) -> None:
    target.least_integer = least if target.least_integer is None else min(target.least_integer, least)
    target.most_integer = most if target.most_integer is None else max(target.most_integer, most)
