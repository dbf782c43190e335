"""Casting: the lanes of a fragment node become one typed column, whole lanes at a time."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from tessaron.core.arrays import array_of, packed_bits
from tessaron.core.fragment import Int64s, Node, TextLane
from tessaron.core.kinds import SCALAR_KINDS, Kind
from tessaron.core.layout import Column
from tessaron.core.typing.readings import SPECIAL_NUMBERS, Reading, read_texts
from tessaron.core.typing.types import ColumnType


class CastError(Exception):
    """The layout's type does not hold a value that is there: the layout was not made for this data."""


def cast_column(node: Node | None, column: Column, row_count: int) -> pa.Array:
    """Return the column as an array of `row_count` values of the column's Arrow type.

    Args:
        node: What stands at the column's path; None if nothing does in this fragment.
        column: The column of the layout.
        row_count: Rows of the level.

    Returns:
        The values, in memory of their own: they do not keep the fragment alive.

    Raises:
        CastError: When a value does not fit the type.
    """
    arrow_type = column.type.arrow_type()
    if node is not None and column.type.name != "text" and len(node.texts):
        node = without_empty_texts(node)
    if node is None or not len(node.kinds):
        return pa.nulls(row_count, arrow_type)
    lanes = [(kinds, cast) for lane, kinds, cast in _LANES if len(getattr(node, lane))]
    if not lanes:
        return pa.nulls(row_count, arrow_type)
    parts = [_cast_lane(cast, node, column) for _, cast in lanes]
    if len(parts) == 1 and len(parts[0]) == row_count:
        return parts[0]
    if len(parts) == 1:
        places = None if len(parts[0]) == len(node.kinds) else places_of(node, lanes[0][0])
        return at_rising_rows(parts[0], _rows_at(node, places), row_count)
    rows = np.concatenate([places_of(node, kinds) for kinds, _ in lanes])
    return at_rows(pa.concat_arrays(parts), _rows_at(node, rows), row_count)


def _rows_at(node: Node, places: Any) -> Any:
    """Return the rows of the occurrences at some places; of all for None."""
    if node.rows is None:
        return np.arange(node.row_count) if places is None else places
    return node.rows if places is None else node.rows[places]


def without_empty_texts(node: Node) -> Node:
    """Return the node with null for each empty text: in XML, an empty element among values of a type."""
    empty = node.texts.byte_lengths == 0
    if not empty.any():
        return node
    kinds = node.kinds.copy()
    kinds[places_of(node, (Kind.TEXT,))[empty]] = Kind.NULL
    return replace(node, kinds=kinds, texts=node.texts.filled())


def places_of(node: Node, kinds: tuple[Kind, ...]) -> Any:
    """Return which occurrences are of one of these kinds."""
    found = node.kinds == kinds[0]
    for kind in kinds[1:]:
        found |= node.kinds == kind
    return np.flatnonzero(found)


def at_rising_rows(values: pa.Array, rows: Any, row_count: int) -> pa.Array:
    """Return what `at_rows` does where the rows rise: whole buffers are spread, at no cost for each value."""
    kind = values.type
    is_text = kind == pa.large_string()
    if values.null_count or values.offset or not (is_text or _is_fixed(kind)):
        return at_rows(values, rows, row_count)
    is_there = np.zeros(row_count, np.bool_)
    is_there[rows] = True
    there = packed_bits(is_there)
    if is_text:
        _, offsets, data = values.buffers()
        lengths = np.zeros(row_count + 1, np.int64)
        lengths[1:][rows] = np.diff(np.frombuffer(offsets, np.int64)[: len(values) + 1])
        return pa.Array.from_buffers(kind, row_count, [there, pa.py_buffer(np.cumsum(lengths)), data])
    cell = np.dtype(f"V{kind.bit_width // 8}")
    spread = np.zeros(row_count, cell)
    spread[rows] = np.frombuffer(values.buffers()[1], cell)[: len(values)]
    return pa.Array.from_buffers(kind, row_count, [there, pa.py_buffer(spread)])


def _is_fixed(kind: Any) -> bool:
    return bool(pa.types.is_primitive(kind) or pa.types.is_decimal128(kind)) and not pa.types.is_boolean(kind)


def at_rows(values: pa.Array, rows: Any, row_count: int) -> pa.Array:
    """Return an array of `row_count` with `values[i]` at row `rows[i]`, and null elsewhere."""
    source = np.full(row_count, -1, np.int64)
    source[rows] = np.arange(len(values))
    return values.take(array_of(source, source < 0))


def _cast_lane(cast: Callable[..., pa.Array], node: Node, column: Column) -> pa.Array:
    try:
        return cast(node, column.type, column.reading)
    except (pa.ArrowInvalid, ValueError) as error:
        raise CastError(f"column {column.name} is {column.type}: {error}") from error


def _cast_booleans(node: Node, target: ColumnType, reading: Reading | None) -> pa.Array:
    values = array_of(node.booleans)
    return values if target.name == "boolean" else _as_text(values, target)


def _cast_integers(node: Node, target: ColumnType, reading: Reading | None) -> pa.Array:
    if target.name == "decimal":
        return _decimals(node.integers, target.scale, target.arrow_type())
    if target.name == "boolean":
        return array_of(node.integers == 1)
    values = array_of(node.integers.copy())
    if target.name == "integer":
        return values
    return _as_text(values, target) if target.name == "text" else values.cast(target.arrow_type())


def _cast_numbers(node: Node, target: ColumnType, reading: Reading | None) -> pa.Array:
    values = node.numbers.compact().to_arrow()
    if target.name == "text":
        return values
    try:
        return values.cast(target.arrow_type())
    except pa.ArrowInvalid:
        # Arrow counts the digits of an exponent even where the number is zero.
        from tessaron.core.typing.fitting import without_exponents

        return without_exponents(values).cast(target.arrow_type())


def _cast_texts(node: Node, target: ColumnType, reading: Reading | None) -> pa.Array:
    if reading is None:
        return _as_text(node.texts.compact().to_arrow(), target)
    return _read(node.texts, reading, target)


def _read(lane: TextLane, reading: Reading, target: ColumnType) -> pa.Array:
    if reading.name == "boolean":
        return _read_booleans(lane, reading)
    if reading.name == "double":
        return pa.array([SPECIAL_NUMBERS[text] for text in lane.to_arrow().to_pylist()], pa.float64())
    if reading.name == "uuid":
        return lane.compact().to_arrow()
    if not (lane.byte_lengths == reading.byte_length).all():
        raise ValueError(f"a text is not a {reading.name} as expected")
    values = read_texts(lane, reading)
    if reading.name == "date":
        return array_of(values.astype(np.int32)).cast(target.arrow_type())
    return array_of(values).cast(target.arrow_type())


def _read_booleans(lane: TextLane, reading: Reading) -> pa.Array:
    words = reading.separator.split("/")
    found = pc.index_in(lane.to_arrow(), pa.array(words, pa.large_string()))
    if found.null_count:
        raise ValueError(f"a text is neither {words[0]} nor {words[1]}")
    return pc.equal(found, 0)


def _as_text(values: pa.Array, target: ColumnType) -> pa.Array:
    if target.name != "text":
        raise ValueError(f"{len(values)} values are {values.type}")
    return values if values.type == pa.large_string() else pc.cast(values, pa.large_string())


def _decimals(values: Int64s, scale: int, arrow_type: Any) -> pa.Array:
    """Return 64-bit integers as 128-bit decimals: the low and the high half of each, sign extended."""
    if scale:
        return pa.array(values).cast(pa.decimal128(38 if scale > 18 else 19 + scale, 0)).cast(arrow_type)
    halves = np.empty((len(values), 2), np.int64)
    halves[:, 0] = values
    halves[:, 1] = values >> 63
    return pa.Array.from_buffers(arrow_type, len(values), [None, pa.py_buffer(halves)])


_LANES: tuple[tuple[str, tuple[Kind, ...], Callable[..., pa.Array]], ...] = (
    ("booleans", (Kind.BOOLEAN,), _cast_booleans),
    ("integers", (Kind.INTEGER,), _cast_integers),
    ("numbers", (Kind.LONG_INTEGER, Kind.FRACTION), _cast_numbers),
    ("texts", (Kind.TEXT,), _cast_texts),
)
"""The lanes, with the kinds whose values stand in each."""
assert {kind for _, kinds, _ in _LANES for kind in kinds} == set(SCALAR_KINDS)
