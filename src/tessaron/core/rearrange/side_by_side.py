"""Rows from several places made one level, and arrays side by side made columns."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pyarrow as pa

from tessaron.core.base.errors import Code
from tessaron.core.base.kinds import Kind
from tessaron.core.base.paths import ELEMENT, Origin, Path, is_markup_step, level_of, name_of_step, plain_name
from tessaron.core.base.text_lane import Int32s, TextLane
from tessaron.core.plan.plan import Rearrangement
from tessaron.core.rearrange.rearranging import Rearranging
from tessaron.core.tape.branches import Branch, Part, merge, order_rows, origin
from tessaron.core.tape.fragment import Node, Role


def unite(work: Rearranging, change: Rearrangement) -> None:
    """Make one level of the rows that stand at several places; each knows the name of its place."""
    outer = work.find(level_of(change.path[:-2]))
    parts: list[Part] = []
    parents: list[Int32s] = []
    ordinals: list[Int32s] = []
    words: list[str] = []
    for number, path in enumerate(change.detail):
        branch = work.find(path)
        if branch is None:
            continue
        parts.append(Part(branch, np.empty(0, np.int32), is_whole=True))
        parents.append(branch.node.parent_rows)
        ordinals.append(branch.node.ordinals + number * _APART)
        last = next((step for step in reversed(path) if isinstance(step, str)), "")
        words.append(plain_name(last) if is_markup_step(last) else name_of_step(last))
    if outer is None or not parts:
        return
    (all_parents, _), places = order_rows(parents, ordinals)
    parts = [replace(part, rows=rows) for part, rows in zip(parts, places, strict=True)]
    level = merge(parts, Role.ELEMENT, None, len(all_parents), {})
    starts = np.searchsorted(all_parents, all_parents)
    level.node.parent_rows = all_parents
    level.node.ordinals = (np.arange(len(all_parents)) - starts + 1).astype(np.int32)
    codes = np.zeros(len(all_parents), np.int64)
    for code, rows in enumerate(places):
        codes[rows] = code
    texts = TextLane.of(pa.array(words, pa.large_string()).take(pa.array(codes)))
    level.children[Origin.KEY] = origin(Origin.KEY, len(all_parents), texts=texts)
    _hang(work, change.path, outer, level)


_APART = 1 << 24
"""Between the ordinals of two places, so that rows keep their order."""


def _hang(work: Rearranging, path: Path, outer: Branch, level: Branch) -> None:
    """Put a level that was made at `path`, whose last steps are a name of its own and `ELEMENT`."""
    name = str(path[-2])
    present = np.unique(level.node.parent_rows).astype(np.int32)
    kinds = np.full(len(present), Kind.ARRAY, np.uint8)
    holder = Branch(Node(-1, Role.MEMBER, name, outer.node.row_count, rows=present, kinds=kinds))
    holder.children[ELEMENT] = level
    outer.children[name] = holder


def put_side_by_side(work: Rearranging, change: Rearrangement) -> None:
    """Make one level of arrays that stand side by side: a row for each position, a member for each array."""
    outer = work.find(level_of(change.path[:-2]))
    found = [(path, work.find(path)) for path in change.detail]
    there = [(path, branch) for path, branch in found if branch is not None]
    if outer is None or not there:
        return
    width = max(int(branch.node.ordinals.max(initial=0)) for _, branch in there) + 1
    keys = [branch.node.parent_rows.astype(np.int64) * width + branch.node.ordinals for _, branch in there]
    every = np.unique(np.concatenate(keys))
    level = Branch(Node(-1, Role.ELEMENT, None, len(every)))
    level.node.parent_rows = (every // width).astype(np.int32)
    level.node.ordinals = (every % width).astype(np.int32)
    level.node.kinds = np.full(len(every), Kind.OBJECT, np.uint8)
    for number, ((path, branch), own) in enumerate(zip(there, keys, strict=True)):
        name = str(path[-2])
        rows = np.searchsorted(every, own).astype(np.int32)
        member = merge([Part(branch, rows, is_whole=True)], Role.MEMBER, name, len(every), {})
        member.node.parent_rows = member.node.ordinals = np.empty(0, np.int32)
        member.node.positions = np.array([number], np.int32)
        level.children[name] = member
    _say_unequal(work, change, [branch for _, branch in there], outer, len(found) - len(there))
    _hang(work, change.path, outer, level)


def _say_unequal(
    work: Rearranging, change: Rearrangement, branches: list[Branch], outer: Branch, missing: int
) -> None:
    lengths = np.array(
        [np.bincount(each.node.parent_rows, minlength=outer.node.row_count) for each in branches]
    )
    lengths = np.concatenate((lengths, np.zeros((min(missing, 1), outer.node.row_count), np.int64)))
    unequal = np.flatnonzero((lengths != lengths[0]).any(axis=0)).astype(np.int64)
    reasons = [
        f"the arrays have {', '.join(map(str, lengths[:, row].tolist()))} values; the shorter get nulls"
        for row in unequal
    ]
    at_outer = replace(change, path=level_of(change.path[:-2]))
    work.say(at_outer, Code.UNEQUAL_LENGTHS, unequal, reasons, rejects=False)
