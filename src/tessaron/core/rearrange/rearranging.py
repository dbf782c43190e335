"""A fragment whose structure is being changed as a layout says, and what all the changes share."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass, field, replace

import numpy as np

from tessaron.core.base.errors import Code
from tessaron.core.base.kinds import LANE_OF_KIND, Kind
from tessaron.core.base.paths import ELEMENT, Path, level_of
from tessaron.core.base.text_lane import Bools, Int32s, Int64s
from tessaron.core.kernel.contract import KernelOptions
from tessaron.core.plan.plan import Rearrangement
from tessaron.core.tape.branches import Branch, Part, merge, order_rows, take
from tessaron.core.tape.fragment import Node, Role


@dataclass(slots=True)
class Oddity:
    """Values that a rearrangement could not place.

    Attributes:
        code: A short stable name of the reason.
        path: Where, as the layout spells it.
        records: The record of each case.
        reasons: For each, what is wrong.
        rejects: Whether the values are lost, so that each is a reject; else only noted.
    """

    code: Code
    path: str
    records: Int64s
    reasons: list[str]
    rejects: bool = True


@dataclass(slots=True)
class Rearranging:
    """A tree that is being changed, what could not be placed, and what texts held that is not wanted."""

    tree: Branch
    kernel: str = "auto"
    options: KernelOptions = field(default_factory=KernelOptions)
    passed: Counter[str] = field(default_factory=Counter)
    oddities: list[Oddity] = field(default_factory=list)

    def find(self, path: Path) -> Branch | None:
        """Return the branch at a path; None where this fragment has nothing there."""
        branch: Branch | None = self.tree
        for step in path:
            branch = None if branch is None else branch.children.get(step)
        return branch

    def say(
        self, change: Rearrangement, code: Code, rows: Int64s, reasons: list[str], rejects: bool = True
    ) -> None:
        """Keep what could not be placed; `rows` are of the level of the change's path."""
        if len(rows):
            # Rows of levels may be counted otherwise after later changes; records are not.
            records = climb(self, rows.astype(np.int32), level_of(change.path), ())
            self.oddities.append(Oddity(code, change.text, records, reasons, rejects))


def without(node: Node, gone: Bools) -> Node:
    """Return a node without some of its occurrences."""
    keep = np.flatnonzero(~gone)
    made = replace(node, rows=node.rows_present()[keep], kinds=node.kinds[keep])
    if len(node.positions) == len(node.kinds):
        made.positions = node.positions[keep]
    for lane in ("booleans", "integers", "numbers", "texts"):
        values = getattr(node, lane)
        if len(values):
            kinds = [kind for kind, other in LANE_OF_KIND.items() if other == lane]
            in_lane = np.isin(node.kinds, kinds)
            setattr(made, lane, take(values, np.flatnonzero(~gone[in_lane])))
    return made


def with_kind(node: Node, chosen: Bools, kind: Kind) -> Node:
    """Return a node with another kind for some of its occurrences."""
    kinds = node.kinds.copy()
    kinds[chosen] = kind
    return replace(node, kinds=kinds)


def join_level(branch: Branch, made: Branch, parents: Int32s, ordinals: Int32s) -> None:
    """Make a level of the elements that are there and those of `made`."""
    there = branch.children.get(ELEMENT)
    if there is None:
        made.node.parent_rows, made.node.ordinals = parents.astype(np.int32), ordinals.astype(np.int32)
        branch.children[ELEMENT] = made
        return
    (all_parents, all_ordinals), places = order_rows(
        [there.node.parent_rows, parents.astype(np.int32)], [there.node.ordinals, ordinals.astype(np.int32)]
    )
    parts = [Part(there, places[0], is_whole=True), Part(made, places[1], is_whole=True)]
    level = merge(parts, Role.ELEMENT, None, len(all_parents), {})
    level.node.parent_rows, level.node.ordinals = all_parents, all_ordinals
    branch.children[ELEMENT] = level


def climb(work: Rearranging, rows: Int32s, level: Path, upper: Path) -> Int64s:
    """Return for rows of a level the rows of a level above it."""
    while level != upper:
        branch = work.find(level)
        assert branch is not None
        rows, level = branch.node.parent_rows[rows], level_of(level[:-1])
    return rows.astype(np.int64)
