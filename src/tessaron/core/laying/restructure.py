"""Changing the structure of a fragment as a layout says, whole columns at a time: the kinds of change."""

from __future__ import annotations

from collections.abc import Callable

from tessaron.core.conform import conform_tree
from tessaron.core.laying.bare_rows import name_rows
from tessaron.core.laying.embedding import embed
from tessaron.core.laying.list_values import make_arrays, split_texts
from tessaron.core.laying.pieces import merge_pieces, unwrap
from tessaron.core.laying.plan import Rearrangement
from tessaron.core.laying.rearranging import Rearranging
from tessaron.core.laying.side_by_side import put_side_by_side, unite
from tessaron.core.laying.skeleton import skeleton_of

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
