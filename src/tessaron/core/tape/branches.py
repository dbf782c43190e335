"""A fragment as a tree that can be regrouped: branches merged row by row, whole columns at a time."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from tessaron.core.base.arrays import ArrowArray
from tessaron.core.base.kinds import LANE_OF_KIND, Kind
from tessaron.core.base.paths import Each, Origin, Step
from tessaron.core.base.text_lane import EMPTY_TEXTS, Int32s, TextLane
from tessaron.core.tape.fragment import Fragment, Node, Role

_KINDS_OF_LANE = {
    lane: tuple(kind for kind, other in LANE_OF_KIND.items() if other == lane)
    for lane in ("booleans", "integers", "numbers", "texts")
}


@dataclass(slots=True, eq=False)
class Branch:
    """A node with the branches below it, by step.

    `fold` is what a structure that contains itself begins with, where it stands again.
    """

    node: Node
    children: dict[Step, Branch] = field(default_factory=dict)
    fold: object = None

    def walk(self) -> Iterator[Branch]:
        """Yield this branch and all below it, each before those below it."""
        pending = [self]
        while pending:
            branch = pending.pop()
            yield branch
            pending.extend(reversed(branch.children.values()))


@dataclass(frozen=True, slots=True)
class FewRows:
    """The new rows of the few rows of a level in which something stands; others are never asked for.

    Attributes:
        old: These rows, rising.
        new: The new row of each.
    """

    old: Int32s
    new: Int32s

    def __getitem__(self, rows: Int32s) -> Int32s:
        """Return the new rows of some of the old ones."""
        return self.new[np.searchsorted(self.old, rows)]


@dataclass(frozen=True, slots=True)
class Part:
    """A branch that goes into a merged one.

    Attributes:
        branch: What goes in.
        rows: The new row of each row of its level; -1 for a row that stays out.
        kinds: The only kinds that go in of what stands here; all where there are none.
        is_whole: Whether all that stands here and below goes in; spares looking row by row.
    """

    branch: Branch
    rows: Int32s | FewRows
    kinds: tuple[Kind, ...] = ()
    is_whole: bool = False


def tree_of(fragment: Fragment) -> Branch:
    """Return the fragment as a tree; it shares the lanes."""
    branches = [Branch(node) for node in fragment.nodes]
    for branch in branches[1:]:
        step = branch.node.step()
        assert step is not None
        branches[branch.node.parent].children[step] = branch
    return branches[0]


def fragment_of(tree: Branch, old: Fragment) -> Fragment:
    """Return a tree as a fragment, with all else as in `old`."""
    nodes: list[Node] = []
    pending = [(tree, -1)]
    while pending:
        branch, parent = pending.pop()
        nodes.append(replace(branch.node, parent=parent))
        index = len(nodes) - 1
        pending.extend((child, index) for child in reversed(branch.children.values()))
    return replace(old, nodes=nodes)


def merge(parts: list[Part], role: Role, name: str | None, row_count: int, maps: dict[int, Int32s]) -> Branch:
    """Return one branch of all parts, on a level of `row_count` rows.

    `maps` is filled with the new rows of each level below, by the `id` of its old branch.
    """
    root = Branch(Node(-1, role, name, row_count))
    pending = [(root, parts)]
    while pending:
        branch, group = pending.pop()
        branch.node = merge_own(branch.node, group)
        branch.fold = next((part.branch.fold for part in group if part.branch.fold is not None), None)
        for step in _steps_below(group):
            below = [
                Part(part.branch.children[step], part.rows, is_whole=part.is_whole)
                for part in group
                if step in part.branch.children and not (part.kinds and step is Each.ELEMENT)
            ]
            head = below[0].branch.node
            if isinstance(step, Each):
                node, below = _join_levels(head, below, maps)
            else:
                node = Node(-1, head.role, head.name, branch.node.row_count)
            branch.children[step] = Branch(node)
            pending.append((branch.children[step], below))
    return root


def _steps_below(parts: list[Part]) -> list[Step]:
    steps = {
        step: None
        for part in parts
        for step in part.branch.children
        if not (part.kinds and step is Each.ELEMENT)
    }
    return list(steps)


def _join_levels(head: Node, parts: list[Part], maps: dict[int, Int32s]) -> tuple[Node, list[Part]]:
    """Return a level with the rows of all parts, in the order of their parents, and the parts on it."""
    parents = [part.rows[part.branch.node.parent_rows] for part in parts]
    ordinals = [part.branch.node.ordinals for part in parts]
    (parent_rows, sorted_ordinals), new_rows = order_rows(parents, ordinals)
    node = Node(-1, head.role, None, len(parent_rows), parent_rows=parent_rows, ordinals=sorted_ordinals)
    lanes = [part.branch.node.keys for part in parts if len(part.branch.node.keys)]
    if lanes:
        node.keys = take(joined(lanes), row_order(new_rows))
    for part, rows in zip(parts, new_rows, strict=True):
        maps[id(part.branch)] = rows
    return node, [
        Part(part.branch, rows, is_whole=part.is_whole) for part, rows in zip(parts, new_rows, strict=True)
    ]


def order_rows(parents: list[Int32s], ordinals: list[Int32s]) -> tuple[tuple[Int32s, Int32s], list[Int32s]]:
    """Return parent rows and ordinals of all rows, ordered by both, and where the rows of each list went.

    Rows whose parent is -1 stay out, and go to -1.
    """
    all_parents, all_ordinals = np.concatenate(parents), np.concatenate(ordinals)
    order = np.lexsort((all_ordinals, all_parents))
    order = order[np.searchsorted(all_parents[order], 0) :]
    places = np.full(len(all_parents), -1, np.int32)
    places[order] = np.arange(len(order), dtype=np.int32)
    cuts = np.cumsum([len(part) for part in parents])[:-1]
    return (all_parents[order], all_ordinals[order]), list(np.split(places, cuts))


def row_order(places: list[Int32s]) -> npt.NDArray[np.int64]:
    """Return the order that brings the rows of all lists to `places`, without those that stay out."""
    everywhere = np.concatenate(places)
    order = np.argsort(everywhere, kind="stable")
    return order[np.searchsorted(everywhere[order], 0) :]


def merge_own(node: Node, parts: list[Part]) -> Node:
    """Return `node` with the occurrences of all parts, in the order of their new rows."""
    chosen = [None if part.is_whole else _chosen(part) for part in parts]
    pairs = list(zip(parts, chosen, strict=True))
    rows = np.concatenate([_at(part.rows[part.branch.node.rows_present()], at) for part, at in pairs])
    kinds = np.concatenate([_at(part.branch.node.kinds, at) for part, at in pairs])
    order = None if len(rows) < 2 or bool((rows[1:] > rows[:-1]).all()) else np.argsort(rows, kind="stable")
    merged = replace(
        node,
        rows=None if len(rows) == node.row_count else _at(rows, order).astype(np.int32),
        kinds=_at(kinds, order),
    )
    if node.role is Role.MEMBER:
        positions = [_at(expanded_positions(part.branch.node), at) for part, at in pairs]
        merged.positions = compact_positions(_at(np.concatenate(positions), order))
    for lane, kinds_of_lane in _KINDS_OF_LANE.items():
        pieces = [_chosen_of_lane(part.branch.node, lane, kinds_of_lane, at) for part, at in pairs]
        filled = [piece for piece in pieces if len(piece)]
        if filled:
            setattr(merged, lane, _in_order(joined(filled), kinds, kinds_of_lane, order))
    return merged


def _at(values: ArrowArray, indices: ArrowArray) -> ArrowArray:
    """Return the values at `indices`; all of them for None."""
    return values if indices is None else values[indices]


def _chosen_of_lane(node: Node, lane: str, kinds_of_lane: tuple[Kind, ...], at: ArrowArray) -> ArrowArray:
    """Return the values of a lane that belong to the occurrences `at`."""
    values = getattr(node, lane)
    if at is None or not len(values):
        return values
    in_lane = np.isin(node.kinds, kinds_of_lane)
    number = np.cumsum(in_lane) - 1
    return take(values, number[at[in_lane[at]]])


def _in_order(
    values: ArrowArray, kinds: ArrowArray, kinds_of_lane: tuple[Kind, ...], order: ArrowArray
) -> ArrowArray:
    """Return the values of a lane in the new order of the occurrences; `kinds` stand in the old one."""
    if order is None:
        return values
    in_lane = np.isin(kinds, kinds_of_lane)
    number = np.cumsum(in_lane) - 1
    return take(values, number[order][in_lane[order]])


def _chosen(part: Part) -> npt.NDArray[np.int64]:
    """Return which occurrences of the part go in."""
    node = part.branch.node
    goes = part.rows[node.rows_present()] >= 0
    if part.kinds:
        goes &= np.isin(node.kinds, part.kinds)
    return np.flatnonzero(goes)


def expanded_positions(node: Node) -> Int32s:
    """Return the position of each occurrence; 0 where none is known."""
    if len(node.positions) == len(node.kinds):
        return node.positions
    value = node.positions[0] if len(node.positions) else 0
    return np.full(len(node.kinds), value, np.int32)


def compact_positions(positions: Int32s) -> Int32s:
    """Return a single position when all are the same."""
    return positions[:1] if len(positions) and (positions == positions[0]).all() else positions


def joined(pieces: list[ArrowArray]) -> ArrowArray:
    """Return the values of several lanes of one sort as one lane."""
    if len(pieces) == 1:
        return pieces[0]
    if isinstance(pieces[0], TextLane):
        return TextLane.of(pa.concat_arrays([piece.to_arrow() for piece in pieces]))
    return np.concatenate(pieces)


def filled_rows(branch: Branch, kind: Kind) -> npt.NDArray[np.bool_]:
    """Return in which rows of its level something stands below a branch's objects, or its arrays."""
    found = np.zeros(branch.node.row_count, np.bool_)
    for step, child in branch.children.items():
        if kind is Kind.OBJECT and isinstance(step, str):
            found[child.node.rows_present()] = True
        elif (kind is Kind.OBJECT and step is Each.ENTRY) or (kind is Kind.ARRAY and step is Each.ELEMENT):
            found[child.node.parent_rows] = True
    return found


def take(values: ArrowArray, indices: npt.NDArray[Any]) -> ArrowArray:
    """Return the values of a lane at `indices`, in that order."""
    if len(indices) == len(values) and (len(indices) == 0 or (np.diff(indices) == 1).all()):
        return values
    if isinstance(values, TextLane):
        return TextLane.of(values.to_arrow().take(pa.array(indices))) if len(indices) else EMPTY_TEXTS
    return values[indices]


def origin(name: Origin, row_count: int, **lanes: Any) -> Branch:
    """Return a branch with what is known of every row, or of those in `rows`."""
    kind = Kind.TEXT if "texts" in lanes else Kind.INTEGER
    rows = lanes.get("rows")
    count = row_count if rows is None else len(rows)
    return Branch(Node(-1, Role.ORIGIN, name.value, row_count, kinds=np.full(count, kind, np.uint8), **lanes))
