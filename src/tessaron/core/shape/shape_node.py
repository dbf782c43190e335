"""A place in the structure of all that was read: what was met there, and what was settled about it."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Literal, cast

import numpy as np

from tessaron.core.base.kinds import KIND_COUNT, SCALAR_KINDS, Kind
from tessaron.core.base.paths import ELEMENT, ENTRY, Each, Origin, Path, Step
from tessaron.core.base.text_lane import TextLane
from tessaron.core.tape.fragment import LEVEL_ROLES, Node
from tessaron.core.types.column_types import ColumnType
from tessaron.core.types.number_digits import NO_NUMBERS, NumberStats, measure_numbers
from tessaron.core.types.readings import Reading, count_readings

if TYPE_CHECKING:
    from tessaron.core.shape.profile import Profile

_FEW = 8
"""So few values are counted one by one."""
MOST_NAMES = 5_000
"""An object with more distinct names than this is a dictionary: no table has so many columns."""
TOO_MANY_NAMES = MOST_NAMES + 1
"""Stands for any number of names beyond that: they are not counted further."""


@dataclass(slots=True)
class ShapeNode:
    """What was met at one path.

    Attributes:
        step: The last step of its path; None for the record.
        row_count: For a level: its rows (records, elements of an array, entries of a dictionary).
        counts: Occurrences per `Kind` code.
        position_sum: Sum of the places among the members of the object; tells the usual order of members.
        least_integer, most_integer: Range of the 64-bit integers; None if there are none.
        numbers: What the other numbers need.
        longest_text: Length of the longest text, in bytes.
        empty_texts: How many texts have no letter.
        readings: How many of the texts each reading fits.
        profile: What a survey wants to know besides; None where there is none.
        children: What stands below, by step.
        is_dictionary: Whether the members of its objects are taken together, as entries of one level.
        names: Where that is not settled yet, as there are merely many names: the occurrences of each. None
            where it is settled.
        name_count: Where that is settled: how many names there were; `TOO_MANY_NAMES` for any more.
        keeps_members: Whether it is settled that its members stand for themselves.
        is_gathered: Whether the nodes of a tree have come together here; see `tape.gathering`.
        is_lifted: Whether an object here counts as an array with one element.
        lifts_scalars: Whether anything here that is no array does.
        text_rule: Where elements of XML with and without anything but text stand here: whether the text of
            the latter is a `member` like that of the former, or all are `empty` and count as objects.
        emptied: Where they are empty: what was seen of them.
        declared: The type that a schema declares; None where there is none.
        declared_position: The place among the members that a schema declares.
        repeats: Whether a schema says that there may be several here.
        is_single: Whether its objects are rows of a table of their own, though none stands in an array.
        is_markup: Whether this is a part of XML: only known once the structure is settled.
        fold: The node that a structure which contains itself begins with, if it stands here again: what is
            below is there; only scalars are here.
        is_recursive: Whether other nodes are folded into this one.
        lifted_count: How many of the objects here are counted as elements already.
        moved_to: The node that took it over; then it stands in no tree any more.
    """

    step: Step | None = None
    row_count: int = 0
    counts: list[int] = field(default_factory=lambda: [0] * KIND_COUNT)
    position_sum: int = 0
    least_integer: int | None = None
    most_integer: int | None = None
    numbers: NumberStats = NO_NUMBERS
    longest_text: int = 0
    empty_texts: int = 0
    readings: dict[Reading, int] = field(default_factory=dict)
    profile: Profile | None = None
    children: dict[Step, ShapeNode] = field(default_factory=dict)
    is_dictionary: bool = False
    names: dict[str, int] | None = None
    name_count: int = 0
    keeps_members: bool = False
    is_gathered: bool = False
    is_lifted: bool = False
    lifts_scalars: bool = False
    text_rule: Literal["", "member", "empty"] = ""
    emptied: ShapeNode | None = None
    is_single: bool = False
    is_markup: bool = False
    declared: ColumnType | None = None
    declared_position: int | None = None
    repeats: bool = False
    fold: ShapeNode | None = None
    is_recursive: bool = False
    lifted_count: int = 0
    moved_to: ShapeNode | None = None

    @property
    def occurrences(self) -> int:
        """How often anything stands here, null included."""
        return sum(self.counts)

    @property
    def usual_position(self) -> float:
        """The mean place among the members of the object, from 0."""
        if self.declared_position is not None:
            return self.declared_position
        return self.position_sum / max(self.occurrences, 1)

    def scalar_kinds(self) -> list[Kind]:
        """Return the kinds met that carry a value into a column.

        In XML, empty texts beside numbers do not: they are no more than elements without a value.
        """
        kinds = [kind for kind in SCALAR_KINDS if self.counts[kind]]
        if self.is_markup and len(kinds) > 1 and Kind.TEXT in kinds and not self.text_count():
            kinds.remove(Kind.TEXT)
        return kinds

    def text_count(self) -> int:
        """Return how many texts there are; in XML, how many that are not empty."""
        return self.counts[Kind.TEXT] - (self.empty_texts if self.is_markup else 0)

    def move_scalars(self, target: ShapeNode, left: Kind, with_nulls: bool) -> int:
        """Move what was seen of scalars to another node, where they count `left` here; return how many."""
        kinds = (*SCALAR_KINDS, Kind.NULL) if with_nulls else SCALAR_KINDS
        moved = ShapeNode(target.step, numbers=self.numbers, longest_text=self.longest_text)
        moved.least_integer, moved.most_integer = self.least_integer, self.most_integer
        moved.empty_texts, moved.readings = self.empty_texts, self.readings
        for kind in kinds:
            moved.counts[kind], self.counts[kind] = self.counts[kind], 0
        count = sum(moved.counts)
        self.counts[left] += count
        if self.profile is not None:
            moved.profile, self.profile = self.profile.without_arrays(), self.profile.arrays_only()
        self.least_integer = self.most_integer = None
        self.numbers, self.longest_text, self.empty_texts, self.readings = NO_NUMBERS, 0, 0, {}
        target.absorb_own(moved)
        return count

    @property
    def rows_step(self) -> Each:
        """The step to the rows of a structure that contains itself."""
        return Each.ENTRY if self.is_dictionary else Each.ELEMENT

    def members(self) -> dict[str, ShapeNode]:
        """Return the members of the objects here, by name."""
        return {step: node for step, node in self.children.items() if isinstance(step, str)}

    def ordered_members(self) -> list[ShapeNode]:
        """Return the members in their usual order; it does not depend on the order of the records."""
        members = self.members()
        return sorted(members.values(), key=lambda node: (node.usual_position, cast("str", node.step)))

    def levels_below(self) -> list[ShapeNode]:
        """Return the levels that open here: elements, entries, or both."""
        return [self.children[step] for step in Each if step in self.children]

    def find(self, path: Path) -> ShapeNode | None:
        """Return what was met at a path that begins here; None where nothing was."""
        node: ShapeNode | None = self
        for step in path:
            node = None if node is None else node.children.get(step)
        return node

    def at(self, path: Path) -> ShapeNode:
        """Return what was met at a path that begins here, where something was: else raises `KeyError`."""
        node = self
        for step in path:
            node = node.children[step]
        return node

    def child(self, step: Step) -> ShapeNode:
        """Return the node one step below, made if it is not there yet."""
        node = self.children.get(step)
        if node is None:
            node = self.children[step] = ShapeNode(step, is_markup=self.is_markup)
        return node

    def profile_single_elements(self, count: int) -> None:
        """Count so many single values here as arrays of one element in the profile, if there is one."""
        profile = self.profile
        if not count or profile is None:
            return
        profile.least_elements = min(1, profile.least_elements) if profile.arrays else 1
        profile.most_elements = max(1, profile.most_elements)
        profile.arrays, profile.elements = profile.arrays + count, profile.elements + count

    def count_as_arrays(self) -> None:
        """Count the objects here as arrays with one element, which they are once they are lifted."""
        objects = self.counts[Kind.OBJECT]
        self.counts[Kind.ARRAY] += objects
        self.counts[Kind.OBJECT] = self.lifted_count = 0
        self.profile_single_elements(objects)

    @property
    def unlifted_count(self) -> int:
        """How many objects here are not counted as elements yet."""
        return self.counts[Kind.OBJECT] - self.lifted_count

    def fold_into(self, outer: ShapeNode) -> None:
        """Stand for `outer` again: what is below goes there."""
        self.fold = outer
        outer.is_recursive = True
        children, self.children = self.children, {}
        if outer.is_lifted:
            element = outer.child(ELEMENT)
            element.row_count += self.unlifted_count
            element.counts[Kind.OBJECT] += self.unlifted_count
            # They are counted as elements now, and must not be once more when the rest is settled.
            self.count_as_arrays()
        outer._take_names(self)
        for step, child in children.items():
            outer._place_for(step, child).take_over(child)

    def walk(self) -> Iterator[ShapeNode]:
        """Yield this node and all below it, each before those below it."""
        pending = [self]
        while pending:
            node = pending.pop()
            yield node
            pending.extend(node.children.values())

    def outline(self) -> ShapeNode:
        """Return the structure from here down with what settling it goes by, as nodes of their own."""
        made: dict[int, ShapeNode] = {}
        nodes = list(self.walk())
        for node in nodes:
            twin = made[id(node)] = ShapeNode(**{name: getattr(node, name) for name in _STRUCTURE_FIELDS})
            twin.counts = list(node.counts)
            twin.names = None if node.names is None else dict(node.names)
        for node in nodes:
            twin = made[id(node)]
            twin.children = {step: made[id(child)] for step, child in node.children.items()}
            twin.fold = None if node.fold is None else made.get(id(node.fold), node.fold)
        return made[id(self)]

    def current(self) -> ShapeNode:
        """Return the node itself, or what has taken it over."""
        node = self
        while node.moved_to is not None:
            node = node.moved_to
        return node

    def take_over(self, other: ShapeNode) -> None:
        """Absorb a node that is out of its tree; it and all below it have moved then."""
        self.absorb(other, moves=True)

    def absorb(self, other: ShapeNode, moves: bool = False, folds: bool = True) -> None:
        """Take in all that `other` and the nodes below it have seen.

        Args:
            other: The other node.
            moves: Whether the other nodes are of no use any more.
            folds: Whether a node stands for a structure that contains itself where the other one does.
        """
        pending = [(self, other)]
        while pending:
            mine, theirs = pending.pop()
            # To fold a node moves what is below it, which may be waiting here.
            mine = mine.current()
            if folds and theirs.fold is not None and mine.fold is None and theirs.fold.current() is not mine:
                mine.fold_into(theirs.fold.current())
            mine.absorb_own(theirs)
            if moves:
                theirs.moved_to = mine
            below = (mine.fold or mine).current()
            below._take_names(theirs)
            for step, node in theirs.children.items():
                pending.append((below._place_for(step, node), node))

    def absorb_own(self, other: ShapeNode) -> None:
        """Take in what `other` itself has seen, without the nodes below it."""
        self.row_count += other.row_count
        self.lifted_count += other.lifted_count
        self.counts = [a + b for a, b in zip(self.counts, other.counts, strict=True)]
        if isinstance(self.step, str):
            self.position_sum += other.position_sum
        if other.least_integer is not None and other.most_integer is not None:
            self.widen_integers(other.least_integer, other.most_integer)
        if other.numbers.count:
            self.numbers = self.numbers.merge(other.numbers)
        self.longest_text = max(self.longest_text, other.longest_text)
        self.empty_texts += other.empty_texts
        self.add_readings(other.readings)
        if other.profile is not None:
            self.add_profile(other.profile)

    def add_readings(self, readings: Mapping[Reading, int]) -> None:
        """Take in how many texts each reading fits."""
        for reading, count in readings.items():
            self.readings[reading] = self.readings.get(reading, 0) + count

    def add_profile(self, profile: Profile) -> None:
        """Take in what a survey wants to know."""
        if self.profile is None:
            from tessaron.core.shape.profile import Profile

            self.profile = Profile()
        self.profile.merge(profile)

    def become_dictionary(self) -> None:
        """Take the members together as the entries of one level, whose names are texts of their own.

        Whether it really is one is to be settled, while its names are known (see `names`).
        """
        members = self.members()
        self.is_dictionary = True
        self.names = {}
        for name, node in members.items():
            del self.children[name]
            self._entry_for(name, node).take_over(node)

    def count_name(self, name: str, count: int) -> None:
        """Count a name of an object whose members are taken together; too many settle what it is."""
        if self.names is not None:
            self.names[name] = self.names.get(name, 0) + count
            if len(self.names) > MOST_NAMES:
                self.names, self.name_count = None, TOO_MANY_NAMES

    def _absorb_names(self, names: dict[str, int] | None) -> None:
        if names is None:
            self.names = None
            return
        for name, count in names.items():
            self.count_name(name, count)

    def _place_for(self, step: Step, node: ShapeNode) -> ShapeNode:
        """Return the node that takes in `node`, which stood one step below an object or array like this."""
        if self.is_lifted and step is not ELEMENT:
            return self.child(ELEMENT)._place_for(step, node)
        if self.is_dictionary and isinstance(step, str):
            return self._entry_for(step, node)
        return self.child(step)

    def _take_names(self, other: ShapeNode) -> None:
        """Be a dictionary, here or at the elements, if `other` is one, and know its names too."""
        if not other.is_dictionary:
            return
        holder = self.child(ELEMENT) if self.is_lifted else self
        if not holder.is_dictionary:
            holder.become_dictionary()
        holder._absorb_names(other.names)
        holder.name_count = holder.name_count or other.name_count

    def _entry_for(self, name: str, node: ShapeNode) -> ShapeNode:
        """Count a member as entries, its name as their keys; return the node of the entries."""
        entry = self.child(ENTRY)
        self.count_name(name, node.occurrences)
        entry.row_count += node.occurrences
        key = entry.child(Origin.KEY)
        lane = TextLane.of([name])
        key.counts[Kind.TEXT] += node.occurrences
        key.longest_text = max(key.longest_text, int(lane.byte_lengths[0]))
        key.add_readings(dict.fromkeys(count_readings(lane)[0], node.occurrences))
        return entry

    def widen_integers(self, least: int, most: int) -> None:
        """Take in that integers from `least` to `most` were seen."""
        self.least_integer = least if self.least_integer is None else min(self.least_integer, least)
        self.most_integer = most if self.most_integer is None else max(self.most_integer, most)


_STRUCTURE_FIELDS = (
    "step", "row_count", "counts", "empty_texts", "is_dictionary", "names", "name_count", "keeps_members",
    "is_gathered", "is_lifted", "lifts_scalars", "is_markup", "declared", "declared_position", "repeats",
    "is_recursive", "lifted_count",
)  # fmt: skip


def see_node(target: ShapeNode, node: Node) -> None:
    """Take in the values of a node of a fragment."""
    if node.role in LEVEL_ROLES:
        target.row_count += node.row_count
    if len(node.kinds) <= _FEW:
        for kind in node.kinds.tolist():
            target.counts[kind] += 1
    else:
        counts = np.bincount(node.kinds, minlength=KIND_COUNT).tolist()
        target.counts = [a + b for a, b in zip(target.counts, counts, strict=True)]
    if len(node.positions) == 1:
        target.position_sum += int(node.positions[0]) * len(node.kinds)
    elif len(node.positions):
        target.position_sum += int(node.positions.sum(dtype=np.int64))
    if len(node.integers):
        target.widen_integers(int(node.integers.min()), int(node.integers.max()))
    if len(node.numbers):
        target.numbers = target.numbers.merge(measure_numbers(node.numbers))
    if len(node.texts):
        filled = node.texts.filled()
        target.empty_texts += len(node.texts) - len(filled)
        readings, longest = count_readings(filled) if len(filled) else ({}, 0)
        target.longest_text = max(target.longest_text, longest)
        target.add_readings(readings)
