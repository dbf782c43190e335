"""Texts that are lists, and single values that are arrays of one."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from tessaron.core.base.kinds import Kind
from tessaron.core.base.paths import ELEMENT, Origin, Step, is_markup
from tessaron.core.base.text_lane import EMPTY_TEXTS, Int32s, Int64s, TextLane
from tessaron.core.plan.plan import Rearrangement
from tessaron.core.rearrange.rearranging import Rearranging, join_level, with_kind
from tessaron.core.tape.branches import Branch, Part, merge
from tessaron.core.tape.fragment import Node, Role


def split_texts(work: Rearranging, change: Rearrangement) -> None:
    """Make arrays of texts that are lists."""
    branch = work.find(change.path)
    element = None if branch is None else branch.children.get(ELEMENT)
    if branch is not None and element is not None and is_markup(change.path):
        # In XML one element and several are alike: the texts of all of them are lists, one after another.
        _split_elements(branch, element, change.detail)
        return
    if branch is None or not len(branch.node.texts):
        return
    node = branch.node
    is_text = node.kinds == Kind.TEXT
    rows = node.rows_present()[is_text]
    lists = pc.split_pattern(node.texts.to_arrow(), change.detail)
    parts = lists.values
    lengths = np.diff(lists.offsets.to_numpy())
    # An empty text is an empty list.
    empty = (node.texts.byte_lengths == 0).repeat(lengths)
    parents, ordinals = np.repeat(rows, lengths), _counted(lengths)
    parents, ordinals = parents[~empty], ordinals[~empty]
    lane = TextLane.of(parts.filter(pa.array(~empty)))
    _put_elements(branch, parents, ordinals, lane)
    branch.node = with_kind(replace(branch.node, texts=EMPTY_TEXTS), is_text, Kind.ARRAY)


def _split_elements(branch: Branch, element: Branch, separator: str) -> None:
    """Make elements of XML, whose texts are lists, elements of these."""
    node = element.node
    is_text = node.kinds == Kind.TEXT
    if not is_text.any() or element.children:
        return
    lists = pc.split_pattern(node.texts.to_arrow(), separator)
    lengths = np.ones(len(node.kinds), np.int64)
    lengths[is_text] = np.where(node.texts.byte_lengths == 0, 0, np.diff(lists.offsets.to_numpy()))
    empty = (node.texts.byte_lengths == 0).repeat(np.diff(lists.offsets.to_numpy()))
    texts = TextLane.of(lists.values.filter(pa.array(~empty)))
    rows = node.rows_present()
    parents = np.repeat(node.parent_rows[rows], lengths)
    starts = np.searchsorted(parents, parents)
    kinds = np.repeat(node.kinds, lengths)
    ordinals = (np.arange(len(parents)) - starts + 1).astype(np.int32)
    made = replace(
        node, row_count=len(parents), parent_rows=parents.astype(np.int32), ordinals=ordinals, rows=None,
        kinds=kinds, texts=texts,
    )  # fmt: skip
    branch.children[ELEMENT] = Branch(made)


def _counted(lengths: Int64s) -> Int32s:
    ends = np.cumsum(lengths)
    starts = np.repeat(ends - lengths, lengths)
    return (np.arange(len(starts)) - starts + 1).astype(np.int32)


def _put_elements(branch: Branch, parents: Int32s, ordinals: Int32s, texts: TextLane) -> None:
    """Add texts to the elements of the arrays at a branch."""
    kinds = np.full(len(parents), Kind.TEXT, np.uint8)
    made = Node(-1, Role.ELEMENT, None, len(parents), parents, ordinals, kinds=kinds, texts=texts)
    join_level(branch, Branch(made), parents, ordinals)


def make_arrays(work: Rearranging, change: Rearrangement) -> None:
    """Make each single value at a path the only element of an array."""
    branch = work.find(change.path)
    if branch is None:
        return
    node = branch.node
    single = (node.kinds != Kind.ARRAY) & (node.kinds != Kind.NULL)
    if not single.any():
        return
    rows = node.rows_present()[single]
    new_rows = np.full(node.row_count, -1, np.int32)
    new_rows[rows] = np.arange(len(rows), dtype=np.int32)
    there = branch.children.pop(ELEMENT, None)
    raw = branch.children.pop(Origin.JSON, None)
    origins: dict[Step, Branch] = {
        step: branch.children.pop(step) for step in list(branch.children) if isinstance(step, Origin)
    }
    made = merge([Part(branch, new_rows)], Role.ELEMENT, None, len(rows), {})
    kept: dict[Step, Branch] = {**origins} if there is None else {**origins, ELEMENT: there}
    if raw is not None:
        kept[Origin.JSON] = raw
    branch.children = kept
    branch.node = with_kind(_without_scalars(node), single, Kind.ARRAY)
    join_level(branch, made, rows, np.ones(len(rows), np.int32))


def _without_scalars(node: Node) -> Node:
    """Return a node without its values, all of which have gone elsewhere."""
    empty = Node(-1, node.role, node.name, node.row_count)
    lanes = ("booleans", "integers", "numbers", "texts")
    return replace(node, **{lane: getattr(empty, lane) for lane in lanes})
