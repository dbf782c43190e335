"""Reading the rest of rows back: what stands at each place instead of, or beside, what the columns say."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from tessaron.core.base.arrays import ArrowArray
from tessaron.core.base.errors import Code, DataError, Place
from tessaron.core.base.kinds import Kind
from tessaron.core.base.paths import MARKUP
from tessaron.core.base.text_lane import Int64s
from tessaron.core.cutting.separator import Separator
from tessaron.core.kernel import choose_kernel
from tessaron.core.kernel.contract import KernelOptions
from tessaron.core.tables.row_rests import AS_IT_IS
from tessaron.core.tape.branches import Branch, tree_of
from tessaron.core.tape.emission import emit
from tessaron.core.tape.fragment import Node
from tessaron.core.tape.occurrences import places_of
from tessaron.core.types.json_columns import quoted, quoted_told


@dataclass(slots=True)
class Overrides:
    """What the rest of some rows says.

    Attributes:
        row_count: The rows.
        at: By path below the row: the rows, what stands there as JSON, and the kind of it.
    """

    row_count: int
    at: dict[tuple[str, ...], tuple[Int64s, Any, Any]] = field(default_factory=dict)

    def scalars(self, path: tuple[str, ...]) -> ArrowArray:
        """Return the scalars at a path as JSON, null where none is; None if nowhere."""
        return self._chosen(
            path, lambda kinds: (kinds != Kind.OBJECT) & (kinds != Kind.ARRAY) & (kinds != Kind.NULL)
        )

    def hollow(self, path: tuple[str, ...]) -> ArrowArray:
        """Return what is null or empty at a path, as JSON, null where nothing is; None if nowhere."""
        return self._chosen(
            path, lambda kinds: (kinds == Kind.OBJECT) | (kinds == Kind.ARRAY) | (kinds == Kind.NULL)
        )

    def _chosen(self, path: tuple[str, ...], wanted: ArrowArray) -> ArrowArray:
        if path not in self.at:
            return None
        rows, texts, kinds = self.at[path]
        chosen = wanted(kinds)
        if not chosen.any():
            return None
        places = np.full(self.row_count, -1, np.int64)
        places[rows[chosen]] = np.flatnonzero(chosen)
        return texts.take(pa.array(places, mask=places < 0))


def read_rests(texts: ArrowArray, is_markup: bool = False, kernel: str = "auto") -> Overrides:
    """Return what the rest of rows says.

    Args:
        texts: The column with the rest, an Arrow array.
        is_markup: Whether it is of rows made of XML.
        kernel: The kernel that reads it.
    """
    found = Overrides(len(texts))
    valid = texts.is_valid().to_numpy(zero_copy_only=False)
    if not valid.any():
        return found
    rows = np.flatnonzero(valid)
    # Most rests are alike: each is read once.
    encoded = texts.drop_null().dictionary_encode()
    data = "\n".join(encoded.dictionary.to_pylist()).encode()
    options = KernelOptions(tells_halves=not is_markup)
    tape = choose_kernel(kernel)(data, Separator.LINE, False, options)
    if tape.faults or tape.record_count != len(encoded.dictionary):
        raise DataError("the rest of a row is no JSON", Place("row_rest"), Code.REST)
    codes = encoded.indices.to_numpy()
    order = np.argsort(codes, kind="stable")
    bounds = np.searchsorted(codes[order], np.arange(len(encoded.dictionary) + 1))
    pending: list[tuple[Branch, tuple[str, ...]]] = [(tree_of(emit(tape)), ())]
    while pending:
        branch, path = pending.pop()
        node = branch.node
        if len(node.kinds):
            found.at[path] = _spread(node, rows, order, bounds, is_markup)
        mark = MARKUP if is_markup else ""
        pending += [
            (child, (*path, mark + step)) for step, child in branch.children.items() if isinstance(step, str)
        ]
    return found


def _spread(
    node: Node, rows: Int64s, order: ArrowArray, bounds: ArrowArray, is_markup: bool
) -> tuple[Int64s, ArrowArray, ArrowArray]:
    """Return for each row with the rest in question what stands at a place."""
    distinct = node.rows_present()
    counts = bounds[distinct + 1] - bounds[distinct]
    which = np.repeat(np.arange(len(distinct)), counts)
    starts = np.repeat(bounds[distinct], counts)
    within = np.arange(len(which)) - np.repeat(np.cumsum(counts) - counts, counts)
    return rows[order[starts + within]], _tokens(node, is_markup).take(pa.array(which)), node.kinds[which]


def _tokens(node: Node, is_markup: bool) -> ArrowArray:
    """Return what stands at a node as JSON."""
    texts = np.full(len(node.kinds), None, object)
    for kind, shown in ((Kind.NULL, "null"), (Kind.OBJECT, "{}"), (Kind.ARRAY, "[]")):
        texts[node.kinds == kind] = shown
    for kinds, values in (
        ((Kind.BOOLEAN,), pa.array(node.booleans).cast(pa.large_string())),
        ((Kind.INTEGER,), pa.array(node.integers).cast(pa.large_string())),
        ((Kind.LONG_INTEGER, Kind.FRACTION), node.numbers.to_arrow()),
        ((Kind.TEXT,), (quoted if is_markup else quoted_told)(node.texts.to_arrow())),
    ):
        texts[places_of(node, kinds)] = values.to_pylist()
    return pa.array(texts.tolist(), pa.large_string())


def applied(values: ArrowArray, instead: ArrowArray, texts: ArrowArray) -> ArrowArray:
    """Return the values of a column as JSON, with what the rest says instead.

    Args:
        values: The values as JSON.
        instead: What the rest says, null where it says nothing.
        texts: The texts of the column, where a number `0` in the rest means that they are JSON themselves.
    """
    made = pc.coalesce(instead, values)
    if texts is None:
        return made
    # A number or boolean has no white space around it: a text that has some is not the one that was meant.
    plain = pc.fill_null(pc.equal(pc.utf8_trim_whitespace(texts), texts), False)
    itself = pc.and_(pc.fill_null(pc.equal(instead, AS_IT_IS), False), plain)
    return pc.if_else(itself, texts, made)
