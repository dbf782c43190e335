"""Changing the structure of a fragment as a layout says, whole columns at a time: the kinds of change."""

from __future__ import annotations

from collections.abc import Callable

from tessaron.core.plan.plan import Rearrangement
from tessaron.core.plan.skeleton import skeleton_of
from tessaron.core.rearrange.bare_rows import name_rows
from tessaron.core.rearrange.embedding import embed
from tessaron.core.rearrange.list_values import make_arrays, split_texts
from tessaron.core.rearrange.pieces import merge_pieces, unwrap
from tessaron.core.rearrange.rearranging import Rearranging
from tessaron.core.rearrange.side_by_side import put_side_by_side, unite
from tessaron.core.shape.conform import conform_tree

REARRANGE: dict[str, Callable[[Rearranging, Rearrangement], None]] = {
    "embedded": embed,
    "split": split_texts,
    "array": make_arrays,
    "named_rows": name_rows,
    "merged": merge_pieces,
    "unwrapped": unwrap,
    "union": unite,
    "parallel": put_side_by_side,
}


def rearrange(work: Rearranging, change: Rearrangement) -> None:
    """Make one change; its paths lead through single objects as if they were arrays, as everywhere."""
    paths = change.detail if change.kind in ("union", "parallel") else [change.path]
    conform_tree(work.tree, skeleton_of(list(paths)))
    REARRANGE[change.kind](work, change)
