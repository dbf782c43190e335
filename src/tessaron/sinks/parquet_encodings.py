"""How the columns of a Parquet file are encoded: chosen for each by its type, and by its first rows."""

from __future__ import annotations

from collections.abc import Collection
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from tessaron.core.base.arrays import ArrowArray, ArrowRows, ArrowType

_LOOKED_AT = 8_192
"""So many of the first rows tell whether values repeat."""
_LEAST_VALUES = 32
"""A dictionary of fewer is not worth its page."""
_SHARE_REPEATED = 0.25
"""A dictionary pays where so few of the values, or fewer, are different."""


def encodings_of(rows: ArrowRows, keys: Collection[str]) -> dict[str, Any]:
    """Return the options of a Parquet writer for the encoding of columns.

    Values that repeat go into a dictionary. Of the others, integers and what is kept as such (dates, times,
    short decimals) are written as differences, doubles byte by byte, texts as they are.

    Args:
        rows: The first group of rows.
        keys: The columns of keys and ordinals: always written as differences, where they are integers.
    """
    with_dictionary, encodings = [], {}
    for name, field_type, column in zip(rows.schema.names, rows.schema.types, rows.columns, strict=True):
        plain = _plain_encoding(field_type)
        is_counter = name in keys and pa.types.is_integer(field_type)
        if not is_counter and _repeats(column):
            with_dictionary.append(name)
        elif plain is not None:
            encodings[name] = plain
    return {"use_dictionary": with_dictionary, "column_encoding": encodings, "store_decimal_as_integer": True}


def _repeats(column: ArrowArray) -> bool:
    first = column.slice(0, _LOOKED_AT)
    known = len(first) - first.null_count
    return known >= _LEAST_VALUES and bool(pc.count_distinct(first).as_py() <= _SHARE_REPEATED * known)


def _plain_encoding(field_type: ArrowType) -> str | None:
    """Return how values that do not repeat are written; None for as they are."""
    types = pa.types
    if types.is_integer(field_type) or types.is_temporal(field_type):
        return "DELTA_BINARY_PACKED"
    if types.is_decimal(field_type) and field_type.precision <= 18:
        return "DELTA_BINARY_PACKED"
    return "BYTE_STREAM_SPLIT" if types.is_floating(field_type) else None
