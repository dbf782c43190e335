"""Checks of tables in themselves: keys, references, ordinals, types, totals and digests of the files."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow.compute as pc
import pyarrow.parquet as pq

from tessaron.core.digests import digest_texts
from tessaron.core.errors import DataError, SourceError
from tessaron.core.fragment import TextLane
from tessaron.core.layout import Table
from tessaron.sinks.target import sha256_of
from tessaron.sources.table_folder import TableFolder
from tessaron.uniqueness import UniqueCheck

_KEY_ROWS = 131_072


@dataclass(frozen=True, slots=True)
class Check:
    """How one check of a table came out.

    Attributes:
        table: The table.
        name: `rows`, `file`, `types`, `primary key`, `foreign key` or `ordinals`.
        failures: How many rows (or files) fail; 0 if none does.
        detail: The first failure, or what was checked.
    """

    table: str
    name: str
    failures: int
    detail: str = ""

    @property
    def passed(self) -> bool:
        """Whether nothing failed."""
        return not self.failures


class TableChecks:
    """Checks the tables of a folder.

    Args:
        files: The folder.
        tables: The tables, parents before children.
        known: What the receipt says of each table, by name: `rows` and `sha256`.
        gaps: Tables whose ordinals may have gaps, as rows were filtered or rejected.
    """

    def __init__(
        self, files: TableFolder, tables: list[Table], known: Mapping[str, Any], gaps: frozenset[str]
    ):
        self._files, self._tables, self._known, self._gaps = files, tables, known, gaps
        self._keys: dict[str, Any] = {}

    def run(self) -> list[Check]:
        """Return how all checks came out."""
        found: list[Check] = []
        for table in self._tables:
            found += self._of(table)
        return found

    def _of(self, table: Table) -> list[Check]:
        try:
            path = self._files.file(table.name)
            found = [*self._file(table, path), *self._types(table, path)]
            return found + self._keys_and_rows(table)
        except (SourceError, DataError) as error:
            return [Check(table.name, "types" if isinstance(error, DataError) else "file", 1, str(error))]

    def _file(self, table: Table, path: Path) -> list[Check]:
        digest = self._known.get(table.name, {}).get("sha256")
        if not digest:
            return []
        same = sha256_of(path) == digest
        return [
            Check(table.name, "file", int(not same), "" if same else f"{path} was changed since the export")
        ]

    def _types(self, table: Table, path: Path) -> list[Check]:
        if path.suffix != ".parquet":
            return []
        try:
            there = pq.read_schema(path)
        except (OSError, ValueError) as error:
            raise SourceError(f"{path}: cannot be read: {error}") from error
        wrong = [
            f"{field.name} is {there.field(field.name).type}, expected {field.type}"
            for field in table.arrow_schema()
            if field.name in there.names and there.field(field.name).type != field.type
        ]
        return [Check(table.name, "types", len(wrong), wrong[0] if wrong else "")]

    def _keys_and_rows(self, table: Table) -> list[Check]:
        names = table.key_columns()
        rows = 0
        primary, references, ordinals = _Primary(table), _References(table, self._keys), _Ordinals(table)
        with primary.check:
            for batch in self._files.batches(table, names, _KEY_ROWS):
                for each in (primary, references, ordinals):
                    each.add(batch, rows)
                rows += batch.num_rows
            self._keys[table.name] = primary.keys()
            found = [primary.result()]
        found += references.results()
        if table.ordinal is not None and table.name not in self._gaps:
            found.append(ordinals.result())
        return [*self._rows(table, rows), *found]

    def _rows(self, table: Table, rows: int) -> list[Check]:
        expected = self._known.get(table.name, {}).get("rows")
        if expected is None:
            return []
        detail = "" if rows == expected else f"{rows:,} rows, the receipt says {expected:,}"
        return [Check(table.name, "rows", int(bool(detail)), detail)]


class _Primary:
    """Whether the primary key is there in every row, and once."""

    def __init__(self, table: Table):
        self._table = table
        self.check = UniqueCheck((table.row_key,))
        self._count = 0
        self._is_dense = table.key_type == "integer"
        self._hashes: list[Any] = []

    def add(self, batch: Any, rows_before: int) -> None:
        column = batch.column(self._table.row_key)
        self.check.add(batch)
        if self._is_dense:
            expected = np.arange(rows_before + 1, rows_before + batch.num_rows + 1)
            self._is_dense = not column.null_count and bool((column.to_numpy() == expected).all())
        self._count += batch.num_rows
        self._hashes.append(hashes_of(column))

    def keys(self) -> Any:
        """Return what references are looked up in: the number of rows with keys from 1, or hashes of keys."""
        return (
            self._count
            if self._is_dense
            else np.unique(np.concatenate(self._hashes or [np.empty(0, np.uint64)]))
        )

    def result(self) -> Check:
        name = self._table.row_key
        failures = 0 if self._is_dense else self.check.duplicates() + self.check.nulls
        detail = f"{name}: {failures:,} rows have the key of another row, or none" if failures else name
        return Check(self._table.name, "primary key", failures, detail)


class _References:
    """Whether every foreign key is met."""

    def __init__(self, table: Table, keys: Mapping[str, Any]):
        self._table, self._keys = table, keys
        self._parts: list[tuple[str, str, list[tuple[int, Any]]]] = [
            (column, other, []) for column, other in table.references() if column in table.key_columns()
        ]
        self._unmet: dict[str, tuple[int, str]] = {}

    def add(self, batch: Any, rows_before: int) -> None:
        for column, other, waiting in self._parts:
            values = batch.column(column)
            if other not in self._keys:
                waiting.append((rows_before, values))
            else:
                self._look_up(column, other, values, rows_before)

    def _look_up(self, column: str, other: str, values: Any, rows_before: int) -> None:
        known = self._keys[other]
        there = values.is_valid().to_numpy(zero_copy_only=False)
        if isinstance(known, int):
            numbers = values.fill_null(1).to_numpy()
            met = (numbers >= 1) & (numbers <= known)
        else:
            met = np.isin(hashes_of(values), known)
        bad = np.flatnonzero(there & ~met)
        if len(bad):
            count, first = self._unmet.get(column, (0, ""))
            first = (
                first or f"{column} {values[int(bad[0])].as_py()} in row {rows_before + int(bad[0]) + 1:,}"
            )
            self._unmet[column] = (count + len(bad), first)

    def results(self) -> list[Check]:
        found = []
        for column, other, waiting in self._parts:
            for rows_before, values in waiting:
                if other in self._keys:
                    self._look_up(column, other, values, rows_before)
            count, first = self._unmet.get(column, (0, ""))
            detail = f"{first} is not in {other}" if count else f"{column} → {other}"
            found.append(Check(self._table.name, "foreign key", count, detail))
        return found


class _Ordinals:
    """Whether the ordinals of the rows in one array are 1, 2, 3 and so on, or 0 alone."""

    def __init__(self, table: Table):
        self._table = table
        self._failures, self._first = 0, ""
        self._last: tuple[Any, int] = (None, 0)
        names = (table.parent_key, table.within_key, table.through_key)
        self._groups = [name for name in names if name is not None]
        self._sums: dict[Any, tuple[int, int]] = {}

    def add(self, batch: Any, rows_before: int) -> None:
        if self._table.ordinal is None or not batch.num_rows:
            return
        ordinals = batch.column(self._table.ordinal).fill_null(-1).to_numpy()
        if self._table.within_key is None:
            self._in_runs(batch, ordinals, rows_before)

    def _in_runs(self, batch: Any, ordinals: Any, rows_before: int) -> None:
        parents = hashes_of(batch.column(str(self._table.parent_key)))
        before = np.concatenate(([self._last[1]], ordinals[:-1]))
        same = np.concatenate(
            ([self._last[0] is not None and self._last[0] == parents[0]], parents[1:] == parents[:-1])
        )
        fits = np.where(same, ordinals == before + 1, ordinals <= 1) & (ordinals >= 0)
        bad = np.flatnonzero(~fits)
        if len(bad):
            row = int(bad[0])
            self._first = self._first or (
                f"row {rows_before + row + 1:,} has {ordinals[row]}"
                + (f" after {before[row]}" if same[row] else " first")
            )
            self._failures += len(bad)
        self._last = (parents[-1], int(ordinals[-1]))

    def result(self) -> Check:
        return Check(self._table.name, "ordinals", self._failures, self._first or str(self._table.ordinal))


def hashes_of(keys: Any) -> Any:
    """Return a 64-bit number for each key, alike for equal keys."""
    if str(keys.type) == "int64":
        return keys.fill_null(0).to_numpy().view(np.uint64)
    return digest_texts(TextLane.of(pc.fill_null(keys.cast("large_string"), "")))[:, 0]
