"""Checks of tables in themselves: keys, references, ordinals, types, totals and digests of the files."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.parquet as pq

from tessaron.core.base.arrays import ArrowArray, ArrowRows
from tessaron.core.base.digests import digest_texts, digest_words
from tessaron.core.base.errors import DataError, SourceError
from tessaron.core.base.paths import Origin
from tessaron.core.base.text_lane import TextLane
from tessaron.core.layout.table_set import Table
from tessaron.core.tables.numbering import rows_by_parent
from tessaron.sinks.target_folder import sha256_of
from tessaron.sources.exported.table_folder import TableFolder
from tessaron.write.across.uniqueness import UniqueCheck

_KEY_ROWS = 131_072


@dataclass(frozen=True, slots=True)
class Check:
    """How one check of a table came out.

    Attributes:
        table: The table.
        name: `rows`, `file`, `types`, `primary key`, `foreign key`, `ordinals`; of a structure that contains
            itself also `depth` and `parent of the row within`.
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
        are_counted: Whether sequence keys of an export count from 1, without gaps.
    """

    def __init__(
        self,
        files: TableFolder,
        tables: list[Table],
        known: Mapping[str, Any],
        gaps: frozenset[str],
        are_counted: bool = True,
    ):
        self._are_counted = are_counted
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
            there = {field.name: field.type for field in pq.read_schema(path)}
        except (OSError, ValueError) as error:
            raise SourceError(f"{path}: cannot be read: {error}") from error
        wrong = [
            f"{field.name} is {there[field.name]}, expected {field.type}"
            for field in table.arrow_schema()
            if there.get(field.name, field.type) != field.type
        ]
        return [Check(table.name, "types", len(wrong), wrong[0] if wrong else "")]

    def _keys_and_rows(self, table: Table) -> list[Check]:
        rows = 0
        is_exported = table.name in self._known and self._are_counted
        primary, references, ordinals = (
            _Primary(table, is_exported),
            _References(table, self._keys),
            _Ordinals(table),
        )
        within = _Within(table)
        outer = filter(None, (table.document_key, table.enclosing_key))
        names = dict.fromkeys((*table.key_columns(), *within.columns, *outer))
        watching = (primary, references, ordinals if table.within_key is None else within)
        with primary.check, ordinals.begun:
            for batch in self._files.batches(table, list(names), _KEY_ROWS):
                for each in watching:
                    each.add(batch, rows)
                rows += batch.num_rows
            self._keys[table.name] = primary.keys()
            found = [primary.result(), *references.results()]
            has_gaps = table.name in self._gaps
            if table.within_key is not None:
                found += within.results(has_gaps)
            elif table.ordinal is not None and not has_gaps:
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

    def __init__(self, table: Table, is_exported: bool = False):
        self._table = table
        self._is_counted = is_exported and table.key_type == "integer"
        self.check = UniqueCheck((table.row_key,))
        self._count = 0
        self._is_dense = table.key_type == "integer"
        self._hashes: list[Any] = []

    def add(self, batch: ArrowRows, rows_before: int) -> None:
        column = batch.column(self._table.row_key)
        if self._is_dense:
            expected = np.arange(rows_before + 1, rows_before + batch.num_rows + 1)
            self._is_dense = not column.null_count and bool((column.to_numpy() == expected).all())
            if not self._is_dense:
                # Those before have the keys from 1 on.
                self._take(pa.array(np.arange(1, rows_before + 1)))
        self._count += batch.num_rows
        if not self._is_dense:
            self._take(column)

    def _take(self, keys: ArrowArray) -> None:
        """Take in keys that do not just count on."""
        self.check.add(pa.RecordBatch.from_arrays([keys], [self._table.row_key]))
        self._hashes.append(hashes_of(keys))

    def keys(self) -> ArrowArray:
        """Return what references are looked up in: the number of rows with keys from 1, or hashes of keys."""
        return (
            self._count
            if self._is_dense
            else np.unique(np.concatenate(self._hashes or [np.empty(0, np.uint64)]))
        )

    def result(self) -> Check:
        name = self._table.row_key
        failures = 0 if self._is_dense else self.check.duplicates() + self.check.nulls
        if not failures and self._is_counted and not self._is_dense:
            return Check(self._table.name, "primary key", 1, f"{name} does not count 1, 2, 3 and so on")
        detail = f"{name}: {failures:,} rows have the key of another row, or none" if failures else name
        return Check(self._table.name, "primary key", failures, detail)


class _References:
    """Whether every foreign key is met."""

    def __init__(self, table: Table, keys: Mapping[str, ArrowArray]):
        self._table, self._keys = table, keys
        self._parts: list[tuple[str, str, list[tuple[int, Any]]]] = [
            (column, other, []) for column, other in (*table.references(), *_by_place(table))
        ]
        self._unmet: dict[tuple[str, str], tuple[int, str]] = {}

    def add(self, batch: ArrowRows, rows_before: int) -> None:
        by_place = self._table.refers_by_place()
        masks = dict(rows_by_parent(batch, self._table)) if by_place else {}
        for column, other, waiting in self._parts:
            values = batch.column(column)
            if by_place and column == self._table.parent_key:
                # Of the rows that belong to the other tables nothing is known here.
                values = pc.if_else(pa.array(masks[other]), values, pa.scalar(None, values.type))
            if other not in self._keys:
                waiting.append((rows_before, values))
            else:
                self._look_up(column, other, values, rows_before)

    def _look_up(self, column: str, other: str, values: ArrowArray, rows_before: int) -> None:
        known = self._keys[other]
        there = values.is_valid().to_numpy(zero_copy_only=False)
        if isinstance(known, int):
            numbers = values.fill_null(1).to_numpy()
            met = (numbers >= 1) & (numbers <= known)
        else:
            met = np.isin(hashes_of(values), known)
        bad = np.flatnonzero(there & ~met)
        if len(bad):
            count, first = self._unmet.get((column, other), (0, ""))
            first = (
                first or f"{column} {values[int(bad[0])].as_py()} in row {rows_before + int(bad[0]) + 1:,}"
            )
            self._unmet[column, other] = (count + len(bad), first)

    def results(self) -> list[Check]:
        found = []
        for column, other, waiting in self._parts:
            for rows_before, values in waiting:
                if other in self._keys:
                    self._look_up(column, other, values, rows_before)
            count, first = self._unmet.get((column, other), (0, ""))
            detail = f"{first} is not in {other}" if count else f"{column} → {other}"
            found.append(Check(self._table.name, "foreign key", count, detail))
        return found


def _by_place(table: Table) -> list[tuple[str, str]]:
    """Return the column with the key of the row above, with each table that this may be in."""
    column = table.parent_key
    return [(column, parent) for parent in table.parents()] if column and table.refers_by_place() else []


class _Ordinals:
    """Whether the ordinals of the rows in one array are 1, 2, 3 and so on, or 0 alone.

    The rows of one array stand side by side: where they begin once more, some were put there later.
    """

    def __init__(self, table: Table):
        self._table = table
        self._failures, self._first = 0, ""
        self._last: tuple[Any, int] = (None, 0)
        place = [table.place_key] if table.places and table.place_key else []
        self._above = (str(table.parent_key), *place)
        self.begun = UniqueCheck(self._above)

    def add(self, batch: ArrowRows, rows_before: int) -> None:
        if self._table.ordinal is None or not batch.num_rows:
            return
        ordinals = batch.column(self._table.ordinal).fill_null(-1).to_numpy()
        hashes = [hashes_of(batch.column(name)) for name in self._above]
        parents = hashes[0] if len(hashes) == 1 else digest_words(hashes)[:, 0]
        before = np.concatenate(([self._last[1]], ordinals[:-1]))
        same = np.concatenate(
            ([self._last[0] is not None and self._last[0] == parents[0]], parents[1:] == parents[:-1])
        )
        fits = np.where(same, ordinals == before + 1, ordinals <= 1) & (ordinals >= 0)
        fits &= ~(same & (before == 0))
        bad = np.flatnonzero(~fits)
        if len(bad):
            row = int(bad[0])
            self._first = self._first or (
                f"row {rows_before + row + 1:,} has {ordinals[row]}"
                + (f" after {before[row]}" if same[row] else " first")
            )
            self._failures += len(bad)
        self.begun.add(batch.filter(pa.array(~same)))
        self._last = (parents[-1], int(ordinals[-1]))

    def result(self) -> Check:
        again = self.begun.duplicates()
        if again:
            self._failures += again
            self._first = self._first or "rows of one array stand in several places"
        return Check(self._table.name, "ordinals", self._failures, self._first or str(self._table.ordinal))


class _Within:
    """Whether the rows of a structure that contains itself stand in each other as they say."""

    def __init__(self, table: Table):
        self._table = table
        origins = {column.path[-1]: column.name for column in table.columns if column.path}
        self._depth, self._way = origins.get(Origin.DEPTH), origins.get(Origin.WAY)
        self.columns = [name for name in (self._depth, self._way) if name is not None]
        self._parts: list[dict[str, Any]] = []

    def add(self, batch: ArrowRows, rows_before: int) -> None:
        if self._table.within_key is None or not batch.num_rows:
            return
        names = (*self._table.key_columns(),)
        part = {name: hashes_of(batch.column(name)) for name in (*names, self._way) if name is not None}
        part["is within"] = batch.column(self._table.within_key).is_valid().to_numpy(zero_copy_only=False)
        for name in (self._table.ordinal, self._depth):
            if name is not None:
                part[name] = batch.column(name).fill_null(-1).to_numpy()
        self._parts.append(part)

    def results(self, has_gaps: bool) -> list[Check]:
        if not self._parts:
            return []
        rows = {name: np.concatenate([part[name] for part in self._parts]) for name in self._parts[0]}
        order = np.argsort(rows[self._table.row_key], kind="stable")
        keys = rows[self._table.row_key][order]
        at = np.minimum(np.searchsorted(keys, rows[str(self._table.within_key)]), len(keys) - 1)
        container, within = order[at], rows["is within"]
        found = [
            self._check("parent of the row within", within, rows[str(self._table.parent_key)], container)
        ]
        if self._depth is not None:
            deep = rows[self._depth]
            bad = np.where(within, deep != deep[container] + 1, deep != 1)
            found.append(Check(self._table.name, "depth", int(bad.sum()), self._first_of(bad, self._depth)))
        if self._table.ordinal is not None and not has_gaps:
            bad = self._odd_ordinals(rows)
            detail = self._first_of(bad, self._table.ordinal)
            found.append(Check(self._table.name, "ordinals", int(bad.sum()), detail))
        return found

    def _check(self, name: str, within: ArrowArray, values: ArrowArray, container: ArrowArray) -> Check:
        bad = within & (values != values[container])
        detail = self._first_of(bad, str(self._table.parent_key))
        return Check(self._table.name, name, int(bad.sum()), detail)

    def _first_of(self, bad: ArrowArray, column: str) -> str:
        return f"{column} of row {int(np.argmax(bad)) + 1:,}" if bad.any() else column

    def _odd_ordinals(self, rows: dict[str, ArrowRows]) -> ArrowArray:
        """Return for which rows the ordinal is not the next one among those that stand in one array."""
        place = self._table.place_key if self._table.places else None
        names = (self._table.parent_key, place, self._table.within_key, self._table.through_key, self._way)
        groups = [rows[name] for name in names if name is not None]
        ordinals = rows[str(self._table.ordinal)]
        order = np.lexsort((ordinals, *groups))
        same = np.ones(len(order), np.bool_)
        same[0] = False
        for group in groups:
            same[1:] &= group[order][1:] == group[order][:-1]
        sorted_ordinals = ordinals[order]
        before = np.concatenate(([0], sorted_ordinals[:-1]))
        fits = np.where(
            same,
            (sorted_ordinals == before + 1) & (before > 0),
            (sorted_ordinals >= 0) & (sorted_ordinals <= 1),
        )
        bad = np.zeros(len(order), np.bool_)
        bad[order[~fits]] = True
        return bad


def hashes_of(keys: ArrowArray) -> ArrowArray:
    """Return a 64-bit number for each key, alike for equal keys."""
    if str(keys.type) == "int64":
        return keys.fill_null(0).to_numpy().view(np.uint64)
    return digest_texts(TextLane.of(pc.fill_null(keys.cast("large_string"), "")))[:, 0]
