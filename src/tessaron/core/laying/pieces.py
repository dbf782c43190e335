"""Pieces of one row brought together, and levels folded away."""

from __future__ import annotations

import numpy as np

from tessaron.core.branches import Branch, Part, merge
from tessaron.core.fragment import Node, Role
from tessaron.core.kinds import Kind
from tessaron.core.laying.plan import Rearrangement
from tessaron.core.laying.rearranging import Rearranging, join_level, with_kind
from tessaron.core.paths import ELEMENT
from tessaron.core.visible import in_quotes


def merge_pieces(work: Rearranging, change: Rearrangement) -> None:
    """Put the fields of the elements of an array side by side in one object."""
    branch = work.find(change.path)
    if branch is None or ELEMENT not in branch.children:
        return
    element = branch.children.pop(ELEMENT)
    parents = element.node.parent_rows
    is_array = branch.node.kinds == Kind.ARRAY
    branch.node = with_kind(branch.node, is_array, Kind.OBJECT)
    count = branch.node.row_count
    for step, child in element.children.items():
        if not isinstance(step, str):
            continue
        present = child.node.rows_present()
        targets = parents[present]
        is_first = np.ones(len(targets), np.bool_)
        is_first[1:] = targets[1:] != targets[:-1]
        work.say(
            change, "piece_repeated", targets[~is_first].astype(np.int64),
            [f"several pieces have the field {in_quotes(step)}; the first counts"] * int((~is_first).sum()),
        )  # fmt: skip
        new_rows = np.full(element.node.row_count, -1, np.int32)
        new_rows[present[is_first]] = targets[is_first]
        branch.children[step] = merge([Part(child, new_rows)], Role.MEMBER, step, count, {})
    scalars = np.flatnonzero((element.node.kinds != Kind.OBJECT) & (element.node.kinds != Kind.NULL))
    odd = parents[element.node.rows_present()[scalars]].astype(np.int64)
    work.say(change, "piece_not_object", odd, ["expected an object as a piece"] * len(odd))


def unwrap(work: Rearranging, change: Rearrangement) -> None:
    """Move the fields of an object, or what stands in the elements of an array, one level up."""
    outer = work.find(change.path[:-1])
    if outer is None or change.path[-1] not in outer.children:
        return
    branch = outer.children[change.path[-1]]
    below = ELEMENT if ELEMENT in branch.children else None
    if below is None:
        _unwrap_object(work, change, outer, branch)
    else:
        _unwrap_array(work, change, outer, branch.children.pop(ELEMENT))
    if not branch.children and not any(branch.node.kinds < Kind.OBJECT):
        del outer.children[change.path[-1]]


def _unwrap_object(work: Rearranging, change: Rearrangement, outer: Branch, branch: Branch) -> None:
    for step in [step for step in branch.children if isinstance(step, str)]:
        child = branch.children.pop(step)
        there = outer.children.get(step)
        if there is None or there is branch:
            outer.children[step] = child
            continue
        rows = child.node.rows_present()
        taken = np.isin(rows, there.node.rows_present())
        work.say(
            change, "name_taken", rows[taken].astype(np.int64),
            [f"the field {in_quotes(step)} is there one level up too, and stays"] * int(taken.sum()),
        )  # fmt: skip
        everywhere = np.arange(child.node.row_count, dtype=np.int32)
        free = np.where(np.isin(everywhere, rows[taken]), -1, everywhere).astype(np.int32)
        parts = [Part(there, everywhere, is_whole=True), Part(child, free)]
        outer.children[step] = merge(parts, Role.MEMBER, step, child.node.row_count, {})


def _unwrap_array(work: Rearranging, change: Rearrangement, outer: Branch, element: Branch) -> None:
    """Hang the levels inside the elements on the level above; their other fields have no place there."""
    count = outer.node.row_count
    for step, child in element.children.items():
        level = child.children.get(ELEMENT)
        scalars = child.node.rows_present()[child.node.kinds < Kind.OBJECT]
        lost = element.node.parent_rows[scalars].astype(np.int64)
        reason = f"the field {in_quotes(step)} of an array that is folded away has no row to be in"
        work.say(change, "folded_away", lost, [reason] * len(lost), rejects=False)
        if level is None or not isinstance(step, str):
            continue
        parents = element.node.parent_rows[level.node.parent_rows]
        holder = outer.children.get(step)
        if holder is None:
            present = np.unique(parents).astype(np.int32)
            kinds = np.full(len(present), Kind.ARRAY, np.uint8)
            holder = Branch(Node(-1, Role.MEMBER, step, count, rows=present, kinds=kinds))
            outer.children[step] = holder
        starts = np.searchsorted(parents, parents)
        ordinals = (np.arange(len(parents)) - starts + 1).astype(np.int32)
        join_level(holder, level, parents, ordinals)
