"""Rows of Python values as columns of Arrow, as drivers of databases and readers of sheets give them."""

from __future__ import annotations

from collections.abc import Sequence

import pyarrow as pa

from tessaron.core.base.arrays import ArrowArray, ArrowRows


def batch_of(names: Sequence[str], rows: Sequence[Sequence[object]]) -> ArrowRows:
    """Return rows as a batch with columns of these names."""
    columns = list(zip(*rows, strict=True)) if rows else [()] * len(names)
    return pa.RecordBatch.from_arrays([_column_of(values) for values in columns], list(names))


def _column_of(values: Sequence[object]) -> ArrowArray:
    """Return values of one column; what Arrow has no type for as the texts that Python writes."""
    try:
        # What is kept of texts is of this type: they need not be copied into it later.
        is_text = isinstance(next((value for value in values if value is not None), None), str)
        return pa.array(values, pa.large_string() if is_text else None)
    except (pa.ArrowInvalid, pa.ArrowTypeError, pa.ArrowNotImplementedError, OverflowError):
        return pa.array([None if value is None else str(value) for value in values], pa.large_string())
