"""Pieces of one row brought together, and levels folded away.

What becomes of a record is told by the record alone: of each value by its own kind, whatever stands at the
same place in other records of the fragment.
"""

from __future__ import annotations

import numpy as np

from tessaron.core.base.errors import Code
from tessaron.core.base.kinds import Kind
from tessaron.core.base.paths import ELEMENT, Step
from tessaron.core.base.text_lane import Bools, Int32s, Int64s
from tessaron.core.base.visible import in_quotes
from tessaron.core.plan.plan import Rearrangement
from tessaron.core.rearrange.rearranging import Rearranging, with_kind, without
from tessaron.core.tape.branches import Branch, Part, merge
from tessaron.core.tape.fragment import Node, Role
from tessaron.core.tape.regroup import to_members


def merge_pieces(work: Rearranging, change: Rearrangement) -> None:
    """Put the fields of the elements of an array side by side in one object."""
    branch = work.find(change.path)
    if branch is None:
        return
    element = branch.children.pop(ELEMENT, None)
    to_members(branch)
    branch.node = with_kind(branch.node, branch.node.kinds == Kind.ARRAY, Kind.OBJECT)
    if element is None:
        return
    to_members(element)
    parents = element.node.parent_rows
    for step, child in element.children.items():
        if not isinstance(step, str):
            continue
        present = child.node.rows_present()
        targets = parents[present]
        is_first = np.ones(len(targets), np.bool_)
        is_first[1:] = targets[1:] != targets[:-1]
        work.say(
            change, Code.PIECE_REPEATED, targets[~is_first].astype(np.int64),
            [f"several pieces have the field {in_quotes(step)}; the first counts"] * int((~is_first).sum()),
        )  # fmt: skip
        new_rows = np.full(element.node.row_count, -1, np.int32)
        new_rows[present[is_first]] = targets[is_first]
        add_member(branch, step, Part(child, new_rows), branch.node.row_count)
    odd = _parents_of(element.node, ~np.isin(element.node.kinds, (Kind.OBJECT, Kind.NULL)))
    work.say(change, Code.PIECE_NOT_OBJECT, odd, ["expected an object as a piece"] * len(odd))


def unwrap(work: Rearranging, change: Rearrangement) -> None:
    """Move the fields of an object, or the arrays that stand in the elements of an array, one level up."""
    outer = work.find(change.path[:-1])
    if outer is None or change.path[-1] not in outer.children:
        return
    branch = outer.children.pop(change.path[-1])
    element = branch.children.pop(ELEMENT, None)
    to_members(branch)
    fields = {step: branch.children.pop(step) for step in list(branch.children) if isinstance(step, str)}
    # What is no object and no array stays where it is.
    branch.node = without(branch.node, np.isin(branch.node.kinds, (Kind.OBJECT, Kind.ARRAY)))
    if len(branch.node.kinds) or branch.children:
        outer.children[change.path[-1]] = branch
    for step, child in fields.items():
        _move_up(work, change, outer, step, child)
    if element is not None:
        _unwrap_elements(work, change, outer, element)


def add_member(branch: Branch, step: Step, part: Part, row_count: int) -> None:
    """Add occurrences to a member of a branch, on rows where it has none yet; made if it is not there."""
    there = branch.children.get(step)
    parts = [part]
    if there is not None:
        parts.insert(0, Part(there, np.arange(row_count, dtype=np.int32), is_whole=True))
    name = step if isinstance(step, str) else None
    branch.children[step] = merge(parts, Role.MEMBER, name, row_count, {})


def _parents_of(node: Node, chosen: Bools) -> Int64s:
    """Return the rows above those elements that are chosen among the occurrences of a level's node."""
    return node.parent_rows[node.rows_present()[chosen]].astype(np.int64)


def _move_up(work: Rearranging, change: Rearrangement, outer: Branch, step: str, child: Branch) -> None:
    """Make a field a member of `outer`, but on rows that have one of its name already."""
    rows = child.node.rows_present()
    there = outer.children.get(step)
    taken = np.zeros(len(rows), np.bool_) if there is None else np.isin(rows, there.node.rows_present())
    work.say(
        change, Code.NAME_TAKEN, rows[taken].astype(np.int64),
        [f"the field {in_quotes(step)} is there one level up too, and stays"] * int(taken.sum()),
    )  # fmt: skip
    new_rows: Int32s = np.arange(child.node.row_count, dtype=np.int32)
    new_rows[rows[taken]] = -1
    add_member(outer, step, Part(child, new_rows, is_whole=not taken.any()), child.node.row_count)


def _unwrap_elements(work: Rearranging, change: Rearrangement, outer: Branch, element: Branch) -> None:
    """Hang the arrays inside the elements on the level above; all else has no place there."""
    to_members(element)
    odd = _parents_of(element.node, ~np.isin(element.node.kinds, (Kind.OBJECT, Kind.NULL)))
    reason = "a value of an array that is folded away is no object, and has no row to be in"
    work.say(change, Code.FOLDED_AWAY, odd, [reason] * len(odd), rejects=False)
    for step, child in element.children.items():
        if not isinstance(step, str):
            continue
        present, kinds = child.node.rows_present(), child.node.kinds
        lost = element.node.parent_rows[present[(kinds != Kind.ARRAY) & (kinds != Kind.NULL)]]
        reason = f"the field {in_quotes(step)} of an array that is folded away has no row to be in"
        work.say(change, Code.FOLDED_AWAY, lost.astype(np.int64), [reason] * len(lost), rejects=False)
        rows = np.unique(element.node.parent_rows[present[kinds == Kind.ARRAY]]).astype(np.int32)
        if len(rows):
            _move_up(work, change, outer, step, _gathered(step, rows, outer, element, child))


def _gathered(step: str, rows: Int32s, outer: Branch, element: Branch, child: Branch) -> Branch:
    """Return arrays on the rows of `outer`, with the elements of all arrays of a field in its elements."""
    kinds = np.full(len(rows), Kind.ARRAY, np.uint8)
    made = Branch(Node(-1, Role.MEMBER, step, outer.node.row_count, rows=rows, kinds=kinds))
    level = child.children.get(ELEMENT)
    if level is not None:
        parents = element.node.parent_rows[level.node.parent_rows]
        starts = np.searchsorted(parents, parents)
        same = np.arange(level.node.row_count, dtype=np.int32)
        inner = merge([Part(level, same, is_whole=True)], Role.ELEMENT, None, level.node.row_count, {})
        inner.node.parent_rows = parents.astype(np.int32)
        inner.node.ordinals = (np.arange(len(parents)) - starts + 1).astype(np.int32)
        made.children[ELEMENT] = inner
    return made
