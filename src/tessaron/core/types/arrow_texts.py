"""Columns of Arrow as JSON texts (RFC 8259), whatever they hold, whole columns at a time."""

from __future__ import annotations

import base64

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.types as pt

from tessaron.core.base.arrays import ArrowArray
from tessaron.core.base.text_lane import Int64s
from tessaron.core.types.json_columns import entries, grouped, objects, quoted, text, text_null


def json_texts(values: ArrowArray) -> ArrowArray:
    """Return each value as JSON, null where it is.

    Numbers keep their digits, times are written as ISO 8601 writes them, bytes as base64 (RFC 4648); lists
    are arrays, structs and maps objects. What JSON has no number for (`NaN`) is a string.

    Args:
        values: An array of any type of Arrow.
    """
    kind = values.type
    if isinstance(kind, pa.BaseExtensionType):
        is_uuid = kind.extension_name == "arrow.uuid"
        return quoted(_shown(values)) if is_uuid else json_texts(values.storage)
    if pt.is_dictionary(kind):
        return json_texts(values.dictionary_decode())
    if pt.is_null(kind):
        return pa.nulls(len(values), pa.large_string())
    if pt.is_string(kind) or pt.is_large_string(kind) or pt.is_string_view(kind):
        return quoted(values.cast(pa.large_string()))
    if pt.is_struct(kind):
        return _of_structs(values)
    if pt.is_map(kind):
        return _of_maps(values)
    if pt.is_list(kind) or pt.is_large_list(kind) or pt.is_fixed_size_list(kind):
        return _of_lists(values)
    if pt.is_binary(kind) or pt.is_large_binary(kind) or pt.is_fixed_size_binary(kind):
        return quoted(pa.array(map(_base64, values.to_pylist()), pa.large_string()))
    if pt.is_timestamp(kind) and kind.tz:
        values = values.cast(pa.timestamp(kind.unit, "UTC"))
    made = values.cast(pa.large_string())
    if pt.is_floating(kind):
        return pc.if_else(pc.is_finite(values), made, quoted(made))
    if pt.is_boolean(kind) or pt.is_integer(kind) or pt.is_decimal(kind):
        return made
    if pt.is_timestamp(kind):
        made = pc.replace_substring(made, " ", "T", max_replacements=1)
    return quoted(made)


def _shown(values: ArrowArray) -> ArrowArray:
    """Return values as the texts that Python writes for them."""
    return pa.array((None if each is None else str(each) for each in values.to_pylist()), pa.large_string())


def _base64(value: bytes | None) -> str | None:
    return None if value is None else base64.b64encode(value).decode()


def _of_structs(values: ArrowArray) -> ArrowArray:
    names = [values.type.field(index).name for index in range(values.type.num_fields)]
    made = objects(list(zip(names, map(json_texts, values.flatten()), strict=True)), len(values))
    return pc.if_else(values.is_valid(), pc.fill_null(made, "{}"), text_null())


def _of_maps(values: ArrowArray) -> ArrowArray:
    there = values.is_valid().to_numpy(zero_copy_only=False)
    # A copy without what a slice or a null hides.
    kept = pa.concat_arrays([values.take(pa.array(np.flatnonzero(there)))])
    texts = entries(kept.keys.cast(pa.large_string()), pc.fill_null(json_texts(kept.items), "null"))
    counts = np.zeros(len(values), np.int64)
    counts[there] = np.diff(kept.offsets.to_numpy())
    return _gathered(values, texts, counts, "{", "}")


def _of_lists(values: ArrowArray) -> ArrowArray:
    counts = pc.fill_null(pc.list_value_length(values), 0).to_numpy(zero_copy_only=False).astype(np.int64)
    return _gathered(values, pc.fill_null(json_texts(values.flatten()), "null"), counts, "[", "]")


def _gathered(
    values: ArrowArray, below: ArrowArray, counts: Int64s, opening: str, closing: str
) -> ArrowArray:
    """Return what stands below each value as one text; `counts` says how much of `below` that is."""
    above = np.repeat(np.arange(len(values)), counts)
    made = grouped(below, above, len(values), opening, closing, ",")
    return pc.if_else(values.is_valid(), pc.fill_null(made, text(opening + closing)), text_null())
