"""One number for all the rows that a record makes, so that it can be told whether any of them has changed."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from hashlib import blake2b

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from tessaron.core.base.arrays import ArrowArray, ArrowRows
from tessaron.core.base.digest_keys import salt_of
from tessaron.core.base.digests import digest_texts, digest_words
from tessaron.core.base.text_lane import Int64s, TextLane
from tessaron.core.layout.table_set import Table
from tessaron.core.tables.numbering import references, rows_by_parent

Words = npt.NDArray[np.uint64]
_NULL = np.uint64(0x6E75_6C6C_6E75_6C6C)


def record_contents(
    batches: Mapping[str, ArrowRows],
    records: Mapping[str, Int64s],
    record_count: int,
    tables: Iterable[Table],
) -> Words:
    """Return for each record a hash of its rows in all tables: their values, and which row stands in which.

    Sequence keys count from the first row of the record, so that it does not matter where in a run it comes.

    Args:
        batches: The rows of each table; those of one record stand together.
        records: For each table the record of each row, from 0.
        record_count: Records.
        tables: The tables; those in which values have one row for all records do not count.
    """
    counted = [table for table in tables if not table.once and len(records.get(table.name, ()))]
    first = {table.name: np.searchsorted(records[table.name], np.arange(record_count)) for table in counted}
    sums = np.zeros(record_count, np.uint64)
    for table in counted:
        batch, own = batches[table.name], records[table.name]
        keys = dict(_key_words(table, batch, own, first))
        rows = digest_words([_row_words(batch, keys) + np.uint64(salt_of(table.rows) % 2**63)])[:, 0]
        starts = np.flatnonzero(np.concatenate(([True], own[1:] != own[:-1])))
        sums[own[starts]] += np.add.reduceat(rows, starts)
    return sums


def hashes_of_rows(batch: ArrowRows, names: Iterable[str]) -> Words:
    """Return a hash of each row, of some of its columns."""
    return digest_words([_row_words(batch.select(list(names)), {})])[:, 0]


def _row_words(batch: ArrowRows, keys: Mapping[str, Words]) -> Words:
    """Return a number for each row that depends on all its values; of keys on those that are given."""
    rows = np.zeros(batch.num_rows, np.uint64)
    for name, column in zip(batch.schema.names, batch.columns, strict=True):
        words = keys[name] if name in keys else hashes_of_values(column)
        # A null adds nothing: a column that is new changes no row that has nothing in it.
        mixed = _mixed(words + _salt(name))
        mixed[words == _NULL] = 0
        rows += mixed
    return rows


def _salt(name: str) -> np.uint64:
    return np.uint64(int.from_bytes(blake2b(name.encode(), digest_size=8).digest(), "little"))


def _mixed(words: Words) -> Words:
    """Return numbers in which each bit depends on all of those given: the finalizer of SplitMix64."""
    for shift, factor in ((30, 0xBF58476D1CE4E5B9), (27, 0x94D049BB133111EB)):
        words ^= words >> np.uint64(shift)
        words *= np.uint64(factor)
    words ^= words >> np.uint64(31)
    return words


def _key_words(
    table: Table, batch: ArrowRows, own: Int64s, first: Mapping[str, Int64s]
) -> Iterator[tuple[str, Words]]:
    """Yield the sequence keys of rows, counted from the first row of their record."""
    if table.key_type == "text":
        return
    for column, others in references(table):
        keys = batch.column(column)
        known = keys.is_valid().to_numpy(zero_copy_only=False)
        numbers = keys.fill_null(0).to_numpy().copy()
        if len(others) == 1:
            numbers -= first[others[0]][own] if others[0] in first else 0
        else:
            for parent, mask in rows_by_parent(batch, table):
                numbers[mask] -= first[parent][own[mask]] if parent in first else 0
        words = numbers.view(np.uint64)
        words[~known] = _NULL
        yield column, words


def hashes_of_values(column: ArrowArray) -> Words:
    """Return a 64-bit hash of each value of a column, alike for equal values."""
    kind = column.type
    if pa.types.is_boolean(kind):
        column = column.cast(pa.int8()).cast(pa.int64())
    elif pa.types.is_date32(kind):
        column = column.cast(pa.int32()).cast(pa.int64())
    elif pa.types.is_timestamp(kind) or pa.types.is_time64(kind):
        column = column.cast(pa.int64())
    elif pa.types.is_floating(kind):
        column = column.view(pa.int64())
    elif not pa.types.is_int64(kind):
        texts = pc.fill_null(column.cast(pa.large_string()), "")
        return _with_nulls(digest_texts(TextLane.of(texts))[:, 0], column)
    return _with_nulls(column.fill_null(0).to_numpy().view(np.uint64), column)


def _with_nulls(words: Words, column: ArrowArray) -> Words:
    if not column.null_count:
        return words
    return np.where(column.is_null().to_numpy(zero_copy_only=False), _NULL, words)
