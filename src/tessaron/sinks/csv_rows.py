"""Rows of CSV (RFC 4180): every text in quotes, null an empty field, all else as Arrow writes it."""

from __future__ import annotations

import io
from collections.abc import Iterator
from datetime import UTC, datetime
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv as pa_csv

from tessaron.core.base.arrays import ArrowArray, ArrowRows, ArrowType

_INTEGERS, _PLAIN, _QUOTED, _MOMENTS = range(4)
_ONE_DIGIT, _ZONE = 16, 256
_DIGITS = {"s": 0, "ms": 3, "us": 6, "ns": 9}
_FIRST, _LAST = datetime(1, 1, 1, tzinfo=UTC), datetime(9999, 12, 31, tzinfo=UTC)
"""Between these years have four digits."""
_EOL = "\r\n"


def csv_header(names: list[str]) -> bytes:
    """Return the line with the names of the columns."""
    quoted = ('"' + name.replace('"', '""') + '"' for name in names)
    return (",".join(quoted) + _EOL).encode()


def iter_csv_rows(table: ArrowRows) -> Iterator[bytes]:
    """Yield the rows of a `pyarrow.Table` as lines, some at a time."""
    try:
        from tessaron.core.compiled._csv import rows
    except ImportError:
        out = io.BytesIO()
        pa_csv.write_csv(
            table, out, pa_csv.WriteOptions(include_header=False, eol=_EOL, quoting_style="needed")
        )
        yield out.getvalue()
        return
    for batch in table.to_batches():
        yield rows([_column(values) for values in batch.columns], batch.num_rows)


def _column(values: ArrowArray) -> tuple[int, int, Any, Any, Any]:
    """Return a column as the compiled code reads it."""
    kind = _PLAIN
    if values.type == pa.int64() or _are_moments(values):
        valid, numbers = values.buffers()
        return _kind_of_numbers(values.type), values.offset, valid, numbers, None
    if pa.types.is_large_string(values.type):
        kind = _QUOTED
    else:
        values = values.cast(pa.large_string())
    valid, offsets, data = values.buffers()
    return kind, values.offset, valid, offsets, data


def _are_moments(values: ArrowArray) -> bool:
    """Say whether a column is timestamps in UTC, or without a zone, of years with four digits."""
    if not pa.types.is_timestamp(values.type) or values.type.tz not in (None, "UTC"):
        return False
    ends = pc.min_max(values.view(pa.int64()))
    least, most = ends["min"].as_py(), ends["max"].as_py()
    unit = 10 ** _DIGITS[values.type.unit]
    return least is None or bool(_FIRST.timestamp() * unit < least and most < _LAST.timestamp() * unit)


def _kind_of_numbers(kind: ArrowType) -> int:
    if kind == pa.int64():
        return _INTEGERS
    return _MOMENTS + _ONE_DIGIT * _DIGITS[kind.unit] + _ZONE * (kind.tz is not None)
