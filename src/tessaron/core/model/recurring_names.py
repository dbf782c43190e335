"""Finding names that may be fields of the nodes of a tree: met in objects of many names, at several depths.

What is counted of tapes merges by addition, so that any split of the input gives the same names.
"""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from tessaron.core.base.kinds import Kind
from tessaron.core.base.paths import ELEMENT, ENTRY, Origin
from tessaron.core.shape.dictionaries import CODE_KEYS, RARE_FIELD
from tessaron.core.shape.shape_node import ShapeNode
from tessaron.core.tape.gathering import TapeView
from tessaron.core.tape.put_aside import Packed, unpack
from tessaron.core.tape.tape import Tape

ENOUGH_DEPTHS = 2
"""A name that is met so deep and deeper may be a field of nodes in nodes."""


def recurring_names(record: ShapeNode) -> frozenset[str]:
    """Return the names of a shape that may be met in objects of many names, at several depths.

    Where names were taken together while learning it is not known any more what stood in which: so they are
    looked at once more, by `NameWork`.
    """
    seen: dict[str, Seen] = defaultdict(Seen)
    pending: list[tuple[ShapeNode, int, int]] = [(record, 1, 0)]
    while pending:
        node, names_here, depth = pending.pop()
        own = node.names or {name: member.occurrences for name, member in node.members().items()}
        for name, times in own.items():
            many = min(names_here, times) if node.step is ENTRY else 0
            here = node.step if isinstance(node.step, str) else id(node)
            seen[name].add(Seen({here, *range(many)}, {depth}))
        below = max(1, len(own))
        pending += [
            (child, 1 if step is ELEMENT else below, depth + 1)
            for step, child in node.children.items()
            if not isinstance(step, Origin)
        ]
    return frozenset(name for name, each in seen.items() if each.recurs())


@dataclass(slots=True)
class Seen:
    """Where a name is met.

    Attributes:
        parents: The names of some of the objects that it is met in.
        depths: How deep these stand: some.
        count: How often.
        objects: How often an object has it.
        inside: How often that object has each of the other names that are looked at.
    """

    parents: set[Any] = field(default_factory=set)
    depths: set[int] = field(default_factory=set)
    count: int = 0
    objects: int = 0
    inside: Counter[str] = field(default_factory=Counter)

    def add(self, other: Seen) -> None:
        """Take in where else it is met."""
        self.count += other.count
        self.objects += other.objects
        self.inside += other.inside
        if len(self.parents) < CODE_KEYS:
            self.parents |= other.parents
        if len(self.depths) < ENOUGH_DEPTHS:
            self.depths |= other.depths

    def recurs(self) -> bool:
        """Say whether it is met in objects of many names, and at several depths."""
        return len(self.parents) >= CODE_KEYS and len(self.depths) >= ENOUGH_DEPTHS


@dataclass(frozen=True)
class NameWork:
    """Looks where some names are met on what was put aside."""

    names: frozenset[str]

    def __call__(self, packed: Packed) -> dict[str, Seen]:
        """Return where each of the names is met."""
        tape = unpack(packed)
        return self.of(tape) if isinstance(tape, Tape) else {}

    def of(self, tape: Tape) -> dict[str, Seen]:
        """Return where each of the names is met on a tape."""
        view = TapeView.of(tape)
        found: dict[str, Seen] = defaultdict(Seen)
        at = np.flatnonzero(view.are_named(self.names) & (view.parents >= 0))
        names, above = view.names[at], view.names[view.parents[at]]
        for name, parent, times in pairs_met(names, above):
            seen = found[view.steps[name]]
            seen.count += times
            if parent >= 0 and len(seen.parents) < CODE_KEYS:
                seen.parents.add(view.steps[parent])
        for name, depth, _ in pairs_met(names, view.depths()[at]):
            found[view.steps[name]].depths.add(depth)
        for step, times in view.step_counts(names[view.kinds[at] == Kind.OBJECT]):
            found[step].objects += times
        both = np.isin(above, np.unique(names))
        for name, parent, times in pairs_met(names[both], above[both]):
            found[view.steps[parent]].inside[view.steps[name]] += times
        return found


def pairs_met(first: Any, second: Any) -> Iterator[tuple[int, int, int]]:
    """Yield each pair of numbers that is met, and how often."""
    pairs, counts = np.unique(
        first.astype(np.int64) << 32 | (second.astype(np.int64) + 1), return_counts=True
    )
    yield from zip((pairs >> 32).tolist(), ((pairs & 0xFFFF_FFFF) - 1).tolist(), counts.tolist(), strict=True)


def fields_of_nodes(seen: Mapping[str, Seen]) -> frozenset[str]:
    """Return the names that may be fields of nodes.

    One that mostly stands in objects of one name belongs to these, not to nodes of many names. A name whose
    objects hold a field of a node themselves is the name of a node.
    """
    owned: Counter[str] = Counter()
    for each in seen.values():
        for name, times in each.inside.items():
            owned[name] = max(owned[name], times)
    found = {name for name, each in seen.items() if each.recurs() and 2 * owned[name] <= each.count}
    most = max((seen[name].count for name in found), default=0)
    often = {name for name in found if seen[name].count >= RARE_FIELD * most}
    return frozenset(name for name in often if not _is_node(seen[name], often))


def _is_node(seen: Seen, fields: set[str]) -> bool:
    held = sum(seen.inside[name] for name in fields)
    return 2 * held >= seen.objects > 0
