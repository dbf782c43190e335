"""Rows of CSV (RFC 4180): every text in quotes, null an empty field, all else as Arrow writes it."""

from __future__ import annotations

import io
from collections.abc import Iterator
from importlib.util import find_spec
from typing import Any

import pyarrow as pa
import pyarrow.csv as pa_csv

_INTEGERS, _PLAIN, _QUOTED = range(3)
_EOL = "\r\n"


def csv_header(names: list[str]) -> bytes:
    """Return the line with the names of the columns."""
    quoted = ('"' + name.replace('"', '""') + '"' for name in names)
    return (",".join(quoted) + _EOL).encode()


def iter_csv_rows(table: Any) -> Iterator[bytes]:
    """Yield the rows of a `pyarrow.Table` as lines, some at a time."""
    if not find_spec("tessaron.sinks._csv"):
        out = io.BytesIO()
        pa_csv.write_csv(
            table, out, pa_csv.WriteOptions(include_header=False, eol=_EOL, quoting_style="needed")
        )
        yield out.getvalue()
        return
    from tessaron.sinks._csv import rows

    for batch in table.to_batches():
        yield rows([_column(values) for values in batch.columns], batch.num_rows)


def _column(values: Any) -> tuple[int, int, Any, Any, Any]:
    """Return a column as the compiled code reads it."""
    kind = _PLAIN
    if values.type == pa.int64():
        valid, numbers = values.buffers()
        return _INTEGERS, values.offset, valid, numbers, None
    if pa.types.is_large_string(values.type):
        kind = _QUOTED
    else:
        values = values.cast(pa.large_string())
    valid, offsets, data = values.buffers()
    return kind, values.offset, valid, offsets, data
