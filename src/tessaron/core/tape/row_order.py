"""The rows of structures that contain themselves, in the order of the rows they stand in.

A row comes before those inside of it. So what stands in it behind these comes late, and what is below is not
in the order of its rows.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from tessaron.core.base.paths import Each, Origin
from tessaron.core.base.text_lane import EMPTY_TEXTS, Int32s
from tessaron.core.tape.branches import Branch, Part, fragment_of, merge_own, tree_of
from tessaron.core.tape.fragment import Fragment, Node


def in_row_order(fragment: Fragment, structures: Sequence[tuple[Node, Node | None]]) -> Fragment:
    """Return the fragment with the values below some levels in the order of their rows.

    Args:
        fragment: With rows numbered as they came.
        structures: The level of each structure that contains itself, and the level through which it does.
    """
    tree = tree_of(fragment)
    branches = {id(branch.node): branch for branch in tree.walk()}
    moved: dict[int, Int32s] = {}
    for outer, _ in structures:
        level = branches[id(outer)]
        if id(level) not in moved:
            _order_below(level, np.arange(level.node.row_count, dtype=np.int32), moved)
    for outer, through in structures:
        level = branches[id(outer)]
        for name, target in ((Origin.WITHIN, level), (Origin.THROUGH, _branch_of(branches, through))):
            known = level.children.get(name)
            if known is not None and target is not None and id(target) in moved:
                known.node.integers = moved[id(target)][known.node.integers].astype(np.int64)
    return fragment_of(tree, fragment)


def _branch_of(branches: dict[int, Branch], node: Node | None) -> Branch | None:
    return None if node is None else branches[id(node)]


def _order_below(level: Branch, rows: Int32s, moved: dict[int, Int32s]) -> None:
    """Bring what stands at a level and below in the order of its rows, which go to `rows`.

    `moved` gets the new rows of each level. Rows with one parent are in their order already.
    """
    pending = [(level, rows)]
    moved[id(level)] = rows
    while pending:
        branch, rows = pending.pop()
        branch.node = merge_own(_bare(branch.node), [Part(Branch(branch.node), rows, is_whole=True)])
        for step, child in branch.children.items():
            if not isinstance(step, Each):
                pending.append((child, rows))
                continue
            parents = rows[child.node.parent_rows]
            order = np.argsort(parents, kind="stable")
            places = np.empty(len(order), np.int32)
            places[order] = np.arange(len(order), dtype=np.int32)
            child.node = replace(child.node, parent_rows=parents[order], ordinals=child.node.ordinals[order])
            moved[id(child)] = places
            pending.append((child, places))


def _bare(node: Node) -> Node:
    """Return a node without its values."""
    empty = Node(-1, node.role, node.name, node.row_count)
    lanes = ("booleans", "integers", "numbers", "texts")
    return replace(node, **{lane: getattr(empty, lane) for lane in lanes}, keys=EMPTY_TEXTS)
