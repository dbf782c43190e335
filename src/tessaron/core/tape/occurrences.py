"""What stands at a node: which occurrences are of a kind, and values spread over its rows."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pyarrow as pa

from tessaron.core.base.arrays import ArrowArray, ArrowRows, array_of
from tessaron.core.base.kinds import Kind
from tessaron.core.tape.fragment import Node


def without_empty_texts(node: Node) -> Node:
    """Return the node with null for each empty text: in XML, an empty element among values of a type."""
    empty = node.texts.byte_lengths == 0
    if not empty.any():
        return node
    kinds = node.kinds.copy()
    kinds[places_of(node, (Kind.TEXT,))[empty]] = Kind.NULL
    return replace(node, kinds=kinds, texts=node.texts.filled())


def places_of(node: Node, kinds: tuple[Kind, ...]) -> ArrowArray:
    """Return which occurrences are of one of these kinds."""
    found = node.kinds == kinds[0]
    for kind in kinds[1:]:
        found |= node.kinds == kind
    return np.flatnonzero(found)


def at_rows(values: pa.Array, rows: ArrowRows, row_count: int) -> pa.Array:
    """Return an array of `row_count` with `values[i]` at row `rows[i]`, and null elsewhere."""
    source = np.full(row_count, -1, np.int64)
    source[rows] = np.arange(len(values))
    return values.take(array_of(source, source < 0))
