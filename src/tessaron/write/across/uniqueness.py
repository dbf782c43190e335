"""Whether columns together have every value once: exact but for 128-bit digests, in bounded memory."""

from __future__ import annotations

import sqlite3
import tempfile
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from types import TracebackType
from typing import Any

import numpy as np
import pyarrow as pa

from tessaron.core.base.arrays import ArrowArray, ArrowRows
from tessaron.core.base.digest_keys import digest_of_columns
from tessaron.core.base.digests import Digests
from tessaron.core.base.text_lane import Bools, Int64s
from tessaron.core.tape.distinct import TELLING_FROM

MOST_CANDIDATES = 12
"""So many columns, from the first, are watched: keys stand in front."""
_ROWS_AT_ONCE, _MOST_PARTS = 400_000, 32
_BLOCK_BYTES = 4 * 1024 * 1024
_DIGEST_BYTES = 16


@dataclass(frozen=True, slots=True)
class KeyDigests:
    """The values of a key in some rows: 16 bytes for each row, and the rows in which a column was null."""

    digests: bytes
    nulls: int

    @classmethod
    def of(cls, batch: ArrowRows, columns: Sequence[str]) -> KeyDigests:
        """Return those of the rows of a record batch."""
        nulls = max(batch.column(batch.schema.get_field_index(name)).null_count for name in columns)
        return cls(np.ascontiguousarray(digest_of_columns(batch, tuple(columns))).tobytes(), nulls)


class UniqueCheck:
    """Collects the digests of a key's values and counts at the end how many came before.

    Attributes:
        columns: The columns of the key.
        nulls: Rows in which a column was null.
        rows: Rows seen.
    """

    def __init__(self, columns: tuple[str, ...]):
        self.columns = columns
        self.nulls = 0
        self.rows = 0
        self._file = tempfile.SpooledTemporaryFile(max_size=4 * 1024 * 1024)  # noqa: SIM115

    def __enter__(self) -> UniqueCheck:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()

    def close(self) -> None:
        """Give up what was collected."""
        self._file.close()

    def add(self, batch: ArrowRows) -> None:
        """Take in the rows of a record batch."""
        self.take(KeyDigests.of(batch, self.columns))

    def take(self, found: KeyDigests) -> None:
        """Take in rows by their digests."""
        self.rows += len(found.digests) // _DIGEST_BYTES
        self.nulls += found.nulls
        self._file.write(found.digests)

    def duplicates(self) -> int:
        """Return how many rows have the values of an earlier one."""
        return sum(self._duplicates_by_part())

    def is_unique(self) -> bool:
        """Say whether every row has values of its own; stops at the first that has not."""
        return not any(self._duplicates_by_part())

    def _duplicates_by_part(self) -> Iterator[int]:
        """Yield the duplicates among digests with one remainder, part by part, so that few are in memory."""
        parts = 1 + min(self.rows // _ROWS_AT_ONCE, _MOST_PARTS)
        for part in range(parts):
            found = [block[block[:, 0] % np.uint64(parts) == part] for block in self._blocks()]
            digests = np.concatenate(found) if found else np.empty((0, 2), np.uint64)
            digests = digests[np.argsort(digests[:, 0])]
            yield int((digests[1:] == digests[:-1]).all(axis=1).sum())

    def _blocks(self) -> Iterator[Digests]:
        self._file.seek(0)
        while data := self._file.read(_BLOCK_BYTES):
            yield np.frombuffer(data, np.uint64).reshape(-1, 2)


def possible_key(batch: ArrowRows, name: str) -> KeyDigests | None:
    """Return the digests of a column's values; None where it has a null, or a value twice."""
    column = batch.column(batch.schema.get_field_index(name))
    is_none = column.null_count or len(column.unique()) < len(column)
    return None if is_none else KeyDigests.of(batch, (name,))


class CandidateKeys:
    """Watches the first columns of a table for those that could be its key: never null, every value once."""

    def __init__(self, columns: list[str]):
        self._checks = {name: UniqueCheck((name,)) for name in columns[:MOST_CANDIDATES]}

    def __enter__(self) -> CandidateKeys:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        for check in self._checks.values():
            check.close()

    def add(self, batch: ArrowRows) -> None:
        """Take in the rows of a record batch; columns that are out are not looked at again."""
        self.take({name: possible_key(batch, name) for name in self._checks})

    @property
    def possible(self) -> tuple[str, ...]:
        """The columns that could be keys as far as was seen."""
        return tuple(self._checks)

    def take(self, found: Mapping[str, KeyDigests | None]) -> None:
        """Take in rows by the digests of each column; None where it is no key."""
        for name in list(self._checks):
            digests = found.get(name)
            if digests is None:
                self._checks.pop(name).close()
            else:
                self._checks[name].take(digests)

    def names(self) -> list[str]:
        """Return the columns that are never null and have every value once; of few rows that says nothing."""
        return [
            name for name, check in self._checks.items() if check.rows >= TELLING_FROM and check.is_unique()
        ]


@dataclass(frozen=True, slots=True)
class ValueDigests:
    """The values of a column, as digests.

    Attributes:
        count: Rows of the column.
        rows: Those that are not null.
        digests: Of each of these 16 bytes.
    """

    count: int
    rows: Int64s
    digests: Any

    @classmethod
    def of(cls, values: ArrowArray) -> ValueDigests:
        """Return those of the values of a column."""
        rows = np.flatnonzero(values.is_valid().to_numpy(zero_copy_only=False))
        batch = pa.RecordBatch.from_arrays([values.take(pa.array(rows))], ["value"])
        found = np.ascontiguousarray(digest_of_columns(batch, ("value",))).view("V16").reshape(-1)
        return cls(len(values), rows, found)


class FirstSeen:
    """Remembers the values of a column, and says which were there before; on disk once they are many."""

    def __init__(self) -> None:
        # An empty name is a database of SQLite that is on disk where memory is short, and goes when closed.
        self._known = sqlite3.connect("")
        self._known.execute("create table seen (digest blob primary key) without rowid")
        self._known.execute("create table come (row integer, digest blob)")

    def __enter__(self) -> FirstSeen:
        return self

    def __exit__(self, *error: object) -> None:
        self._known.close()

    def repeats(self, values: ValueDigests) -> Bools:
        """Return a mask of the values that were there before, in these or in earlier ones; null never."""
        rows = values.rows
        _, first = np.unique(values.digests, return_index=True)
        found = np.zeros(values.count, np.bool_)
        found[np.delete(rows, first)] = True
        with self._known:
            self._known.execute("delete from come")
            pairs = zip(rows[first].tolist(), values.digests[first].tolist(), strict=True)
            self._known.executemany("insert into come values (?, ?)", pairs)
            there = self._known.execute("select come.row from come join seen using (digest)").fetchall()
            self._known.execute("insert or ignore into seen select digest from come")
        found[[row for (row,) in there]] = True
        return found
