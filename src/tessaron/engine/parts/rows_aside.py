"""Rows of a part put aside at the worker, until it is known how many come before them."""

from __future__ import annotations

import pickle
from collections import Counter
from collections.abc import Iterator
from typing import Any

import pyarrow as pa

from tessaron.core.tables.laid import Laid
from tessaron.engine.aside.spill import Spill


class RowsAside:
    """The rows of the chunks of a part, in order: in memory while few, then on disk.

    Args:
        schemas: The columns of each table.
        spill: Where they are put.
    """

    def __init__(self, schemas: dict[str, Any], spill: Spill | None = None):
        self._schemas = schemas
        self._spill = spill or Spill()
        self._heads: list[tuple[list[str], bytes]] = []

    def add(self, laid: Laid) -> None:
        """Put the rows of a chunk aside, with the record of each where that is known."""
        names = [name for name, batch in laid.batches.items() if batch.num_rows]
        # Where records may be left out late, what they had has to be counted.
        counted = (laid.records, set(laid.read)) if laid.records else None
        self._heads.append((names, pickle.dumps((laid.record_count, counted))))
        self._spill.write([memoryview(laid.batches[name].serialize()) for name in names] or [b""])

    def __iter__(self) -> Iterator[Laid]:
        """Yield the rows of each chunk; of tables without any an empty batch."""
        for (names, head), parts in zip(self._heads, self._spill.read(), strict=True):
            batches = {name: pa.RecordBatch.from_pylist([], schema) for name, schema in self._schemas.items()}
            for name, part in zip(names, parts, strict=False):
                batches[name] = pa.ipc.read_record_batch(pa.py_buffer(part), self._schemas[name])
            record_count, counted = pickle.loads(head)
            records, read = counted or ({}, ())
            yield Laid(batches, record_count, records=records, read=Counter(dict.fromkeys(read, 0)))
