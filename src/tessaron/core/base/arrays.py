"""Names for what Arrow gives, and arrays of NumPy as arrays of Arrow that share their memory."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa

ArrowArray = Any
"""A `pyarrow.Array`, or a chunked one where that is as good: pyarrow tells checkers no types."""
ArrowRows = Any
"""A `pyarrow.RecordBatch` or `pyarrow.Table`."""
ArrowSchema = Any
"""A `pyarrow.Schema`."""
ArrowType = Any
"""A `pyarrow.DataType`."""

_KINDS = {"i8": pa.int64(), "i4": pa.int32(), "f8": pa.float64()}


def array_of(values: npt.NDArray[Any], is_null: npt.NDArray[np.bool_] | None = None) -> ArrowArray:
    """Return numbers or booleans as an Arrow array.

    `pyarrow.array` does the same, and loads what NumPy has for masked arrays.

    Args:
        values: 64-bit or 32-bit integers, doubles or booleans.
        is_null: Which of them are null.
    """
    there = None if is_null is None else packed_bits(~is_null)
    if values.dtype == np.bool_:
        return pa.Array.from_buffers(pa.bool_(), len(values), [there, packed_bits(values)])
    kind = _KINDS[values.dtype.str[1:]]
    return pa.Array.from_buffers(kind, len(values), [there, pa.py_buffer(np.ascontiguousarray(values))])


def joined_batches(batches: Iterable[ArrowRows], schema: ArrowSchema) -> ArrowRows:
    """Return the rows of record batches as one, which has no rows where there are none."""
    found = [batch for batch in batches if batch.num_rows]
    if len(found) == 1:
        return found[0]
    if not found:
        return pa.RecordBatch.from_pylist([], schema)
    return pa.Table.from_batches(found, schema).combine_chunks().to_batches()[0]


def packed_bits(values: npt.NDArray[np.bool_]) -> ArrowArray:
    """Return a buffer with a bit for each value, as Arrow has them."""
    return pa.py_buffer(np.packbits(values, bitorder="little"))
