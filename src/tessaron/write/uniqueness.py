"""Whether columns together have every value once: exact but for 128-bit digests, in bounded memory."""

from __future__ import annotations

import sqlite3
import tempfile
from collections.abc import Iterator
from types import TracebackType

import numpy as np
import pyarrow as pa

from tessaron.core.base.arrays import ArrowArray, ArrowRows
from tessaron.core.base.digest_keys import digest_of_columns
from tessaron.core.base.digests import Digests
from tessaron.core.tape.distinct import TELLING_FROM

MOST_CANDIDATES = 12
"""So many columns, from the first, are watched: keys stand in front."""
_ROWS_AT_ONCE, _MOST_PARTS = 400_000, 32
_BLOCK_BYTES = 4 * 1024 * 1024


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
        self.rows += batch.num_rows
        self.nulls += max(
            batch.column(batch.schema.get_field_index(name)).null_count for name in self.columns
        )
        self._file.write(np.ascontiguousarray(digest_of_columns(batch, self.columns)).tobytes())

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
        for name in list(self._checks):
            column = batch.column(batch.schema.get_field_index(name))
            if column.null_count or len(column.unique()) < len(column):
                self._checks.pop(name).close()
            else:
                self._checks[name].add(batch)

    def names(self) -> list[str]:
        """Return the columns that are never null and have every value once; of few rows that says nothing."""
        return [
            name for name, check in self._checks.items() if check.rows >= TELLING_FROM and check.is_unique()
        ]


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

    def repeats(self, values: ArrowArray) -> ArrowArray:
        """Return a mask of the values that were there before, in these or in earlier ones; null never."""
        rows = np.flatnonzero(values.is_valid().to_numpy(zero_copy_only=False))
        batch = pa.RecordBatch.from_arrays([values.take(pa.array(rows))], ["value"])
        digests = np.ascontiguousarray(digest_of_columns(batch, ("value",))).view("V16").reshape(-1)
        _, first = np.unique(digests, return_index=True)
        found = np.zeros(len(values), np.bool_)
        found[np.delete(rows, first)] = True
        with self._known:
            self._known.execute("delete from come")
            pairs = zip(rows[first].tolist(), digests[first].tolist(), strict=True)
            self._known.executemany("insert into come values (?, ?)", pairs)
            there = self._known.execute("select come.row from come join seen using (digest)").fetchall()
            self._known.execute("insert or ignore into seen select digest from come")
        found[[row for (row,) in there]] = True
        return found
