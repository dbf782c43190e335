"""Gathering: in trees whose node names are data, the nodes inside a node come together under one name.

So `{"depth": 5, "north": {"depth": 4}}` becomes `{"depth": 5, "nodes": {"north": {"depth": 4}}}` at every
depth, and what stands at `nodes` is a dictionary that contains itself.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import numpy.typing as npt

from tessaron.core.base.kinds import Kind
from tessaron.core.base.paths import ELEMENT, ENTRY, Path
from tessaron.core.base.text_lane import Bools, Int32s, Int64s
from tessaron.core.tape.tape import Tape


@dataclass(frozen=True, slots=True)
class Gathered:
    """A tree whose node names are data.

    A node is an object, or an array of such.

    Attributes:
        path: Where the nodes inside the outermost one come together: its path, and the name for them.
        fields: The names that are no nodes: they stay where they stand.
    """

    path: Path
    fields: frozenset[str]

    @property
    def root(self) -> Path:
        """Where the outermost node stands."""
        return self.path[:-1]

    def holds(self, path: Path) -> bool:
        """Say whether nodes come together at a path: at that of the tree, or at the same name further in."""
        size = len(self.root)
        steps = tuple(step for step in path[size:] if step is not ELEMENT)
        inside = (self.path[-1], *(ENTRY, self.path[-1]) * (len(steps) // 2))
        return path[:size] == self.root and path[-1:] != (ELEMENT,) and steps == inside


@dataclass(frozen=True, slots=True)
class TapeView:
    """The arrays of a tape, for passes over it."""

    kinds: Any
    names: Int32s
    parents: Int32s
    steps: list[str]

    @classmethod
    def of(cls, tape: Tape) -> TapeView:
        """Return the arrays of a tape."""
        return cls(
            np.frombuffer(tape.kinds, np.uint8),
            np.frombuffer(tape.names, np.int32),
            np.frombuffer(tape.parents, np.int32),
            tape.steps(),
        )

    def are_named(self, names: frozenset[str]) -> Bools:
        """Return which values are members of one of some names."""
        known = np.array([step in names for step in self.steps] or [False])
        return np.where(self.names >= 0, known[np.maximum(self.names, 0)], False)

    def step_counts(self, names: Int32s) -> Iterator[tuple[str, int]]:
        """Yield how often each step is met among the names of some members."""
        numbers, counts = np.unique(names, return_counts=True)
        for number, count in zip(numbers.tolist(), counts.tolist(), strict=True):
            yield self.steps[number], count

    def below(self, chosen: Bools) -> Bools:
        """Return which values stand right in one of the chosen."""
        return np.where(self.parents >= 0, chosen[np.maximum(self.parents, 0)], False)

    def depths(self) -> Int32s:
        """Return how deep each value stands; records stand at 0."""
        found = np.zeros(len(self.kinds), np.int32)
        here = self.parents < 0
        while (here := self.below(here)).any():
            found[here] = found[self.parents[here]] + 1
        return found

    def inside(self, chosen: Bools) -> Bools:
        """Return which values stand in one of the chosen, however deep."""
        found = np.zeros(len(self.kinds), np.bool_)
        here = chosen
        while (here := self.below(here) & ~found).any():
            found |= here
        return found

    def at(self, path: Path) -> Bools:
        """Return which values stand at a path."""
        found = self.parents < 0
        for step in path:
            found = self.below(found)
            if step is ELEMENT:
                found &= self.names < 0
            elif step is ENTRY:
                found &= self.names >= 0
            else:
                found &= self.are_named(frozenset((str(step),)))
        return found


def gather(tape: Tape, trees: Sequence[Gathered]) -> Tape:
    """Return a tape on which the nodes of trees have come together, each tree under its name."""
    for tree in trees:
        tape = _gather(tape, tree)
    return tape


def nodes_of(view: TapeView, roots: Bools, fields: frozenset[str]) -> Iterator[Bools]:
    """Yield which values are the nodes in the objects `roots`, then those right in them, and so on.

    Objects in an array are nodes where a single object would be one.
    """
    no_field = ~view.are_named(fields) & (view.names >= 0)
    here = roots
    while here.any():
        nodes = view.below(here & (view.kinds == Kind.OBJECT)) & no_field
        if nodes.any():
            yield nodes
        here = nodes | view.below(here & (view.kinds == Kind.ARRAY))


def _gather(tape: Tape, tree: Gathered) -> Tape:
    view = TapeView.of(tape)
    moved = np.zeros(len(view.kinds), np.bool_)
    for nodes in nodes_of(view, view.at(tree.root), tree.fields):
        moved |= nodes
    places = np.flatnonzero(moved)
    if not len(places):
        return tape
    # The object for the nodes inside a node stands before the first of them.
    holders, first = np.unique(view.parents[places], return_index=True)
    return _with_objects(tape, view, places, holders, places[first], str(tree.path[-1]))


def _with_objects(
    tape: Tape, view: TapeView, moved: Int64s, holders: Int32s, before: Int64s, name: str
) -> Tape:
    """Return a tape with an object in each of the holders, in which what is moved of their members stands."""
    count = len(view.kinds)
    order = np.argsort(before, kind="stable")
    inserted, above = before[order], holders[order]
    # Where each value of old, and each object that is new, comes to stand.
    shifts = np.searchsorted(inserted, np.arange(count), side="right")
    places = np.arange(count) + shifts
    new_places = inserted + np.arange(len(inserted))
    number_of_holder = np.full(count, -1, np.int64)
    number_of_holder[above] = new_places
    parents = np.where(view.parents >= 0, places[np.maximum(view.parents, 0)], view.parents)
    parents[moved] = number_of_holder[view.parents[moved]]
    steps = tape.step_texts()
    step = name.encode()
    number = steps.index(step) if step in steps else len(steps)

    def widened(old: npt.ArrayLike, new: npt.ArrayLike, kind: npt.DTypeLike) -> bytes:
        made = np.empty(count + len(inserted), kind)
        made[places], made[new_places] = old, new
        return made.tobytes()

    is_new = number == len(steps)
    return replace(
        tape,
        kinds=widened(view.kinds, Kind.OBJECT, np.uint8),
        names=widened(view.names, number, np.int32),
        parents=widened(parents, places[above], np.int32),
        values=widened(np.frombuffer(tape.values, np.int64), 0, np.int64),
        step_sizes=bytes(tape.step_sizes) + (np.int64(len(step)).tobytes() if is_new else b""),
        step_data=bytes(tape.step_data) + (step if is_new else b""),
    )
