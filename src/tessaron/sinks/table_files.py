"""Writing tables to files: rows are collected per table and written in groups, as Parquet or CSV."""

from __future__ import annotations

from collections import deque
from concurrent.futures import Future, ThreadPoolExecutor
from pathlib import Path
from types import TracebackType
from typing import Any, Protocol

import pyarrow as pa
import pyarrow.parquet as pq

from tessaron.core.base.arrays import ArrowRows
from tessaron.core.base.errors import TargetError, UsageError
from tessaron.core.base.formulas import with_harmless_texts
from tessaron.core.base.visible import in_quotes
from tessaron.core.layout.table_set import Table, TableSet
from tessaron.core.types.column_types import in_shown_unit
from tessaron.sinks.collected_rows import CollectedRows
from tessaron.sinks.csv_rows import csv_header, iter_csv_rows
from tessaron.sinks.parquet_encodings import encodings_of


class TableFile(Protocol):
    """One file under construction."""

    def write(self, rows: ArrowRows) -> None:
        """Append a `pyarrow.Table`."""

    def close(self) -> None:
        """Finish the file."""


class ParquetFile:
    """A Parquet file with zstd compression; each write makes one row group. Opened by the first write."""

    ending = ".parquet"

    def __init__(self, path: Path, table: Table, for_spreadsheets: bool = False):
        self._path = path
        self._schema = table.arrow_schema()
        self._keys = table.key_columns()
        self._writer: Any = None

    def write(self, rows: ArrowRows) -> None:
        """Append a `pyarrow.Table` as one row group."""
        if self._writer is None:
            encodings = encodings_of(rows, self._keys)
            self._writer = pq.ParquetWriter(self._path, self._schema, compression="zstd", **encodings)
        self._writer.write_table(rows, row_group_size=max(rows.num_rows, 1))

    def close(self) -> None:
        """Write the footer."""
        if self._writer is not None:
            self._writer.close()
            self._writer = None


class CsvFile:
    """A CSV file by RFC 4180: UTF-8, CRLF, a header; null is empty, an empty text is `""`."""

    ending = ".csv"

    def __init__(self, path: Path, table: Table, for_spreadsheets: bool = False):
        self._path = path
        self._for_spreadsheets = for_spreadsheets
        self._header = True
        self._types = {column.name: column.type for column in table.columns}

    def write(self, rows: ArrowRows) -> None:
        """Append a `pyarrow.Table`; the file is open only meanwhile."""
        rows = self._in_shown_units(rows)
        with open(self._path, "ab") as file:
            if self._header:
                file.write(csv_header(rows.schema.names))
            self._header = False
            file.writelines(iter_csv_rows(rows))

    def close(self) -> None:
        """Do nothing: every write has closed the file."""

    def _in_shown_units(self, rows: ArrowRows) -> ArrowRows:
        columns = [
            in_shown_unit(rows.column(index), self._types[name])
            if name in self._types
            else rows.column(index)
            for index, name in enumerate(rows.schema.names)
        ]
        rows = pa.Table.from_arrays(columns, rows.schema.names)
        return with_harmless_texts(rows) if self._for_spreadsheets else rows


FORMATS: dict[str, type[ParquetFile] | type[CsvFile]] = {"parquet": ParquetFile, "csv": CsvFile}


FORMAT_NAMES = (*FORMATS, "xlsx")


def check_format(name: str) -> None:
    """Raise `UsageError` unless `name` is a format that can be written."""
    if name not in FORMAT_NAMES:
        raise UsageError(f"expected a format of {', '.join(FORMAT_NAMES)}, got {in_quotes(name)}")


class TableFiles:
    """Writes every table of a layout to a file of its own in one folder.

    Rows are written in groups; see `CollectedRows`. A context; it closes the files.

    Args:
        folder: Where the files go.
        layout: The tables.
        format_name: A key of `FORMATS`.
        collected_bytes: Bytes of rows, all tables together, before the largest group is written early.
        threads: Threads that encode groups; with none it is done at once.
        for_spreadsheets: Whether texts of CSV that look like formulas begin with an apostrophe.

    Attributes:
        names: The file of each table.
        rows: The rows written to each.
        values: The values, null aside, written to each of its columns.
    """

    def __init__(
        self,
        folder: Path,
        layout: TableSet,
        format_name: str,
        collected_bytes: int,
        threads: int = 0,
        for_spreadsheets: bool = False,
    ):
        writer = FORMATS[format_name]
        self.names = {table.name: table.name + writer.ending for table in layout.tables}
        self._collected = CollectedRows(layout.tables, collected_bytes, self._encode)
        self.rows, self.values = self._collected.rows, self._collected.values
        self._files: dict[str, TableFile] = {
            table.name: writer(folder / self.names[table.name], table, for_spreadsheets)
            for table in layout.tables
        }
        self._threads = ThreadPoolExecutor(threads) if threads else None
        self._groups_ahead = threads
        self._written: deque[Future[None]] = deque()
        self._last_of: dict[str, Future[None]] = {}

    def __enter__(self) -> TableFiles:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        try:
            if kind is None:
                self.close()
        finally:
            if self._threads is not None:
                self._threads.shutdown(cancel_futures=True)

    def write(self, batches: dict[str, ArrowRows]) -> None:
        """Append a record batch to each table named.

        Raises:
            TargetError: When the disk does not take it.
        """
        self._collected.add(batches)

    def close(self) -> None:
        """Write what is left and finish every file; a table without rows becomes a file without rows."""
        for name, file in self._files.items():
            if self._collected.waits(name) or not self.rows[name]:
                self._collected.flush(name)
            # At once, where it can be: an open file of many columns takes memory.
            last = self._last_of.get(name)
            if last is None or last.done():
                _guarded(file.close)
        while self._written:
            self._written.popleft().result()
        for file in self._files.values():
            _guarded(file.close)

    def _encode(self, name: str, rows: ArrowRows) -> None:
        if self._threads is None:
            _write_after(None, self._files[name], rows)
            return
        while len(self._written) >= self._groups_ahead:
            self._written.popleft().result()
        before = self._last_of.get(name)
        self._last_of[name] = self._threads.submit(_write_after, before, self._files[name], rows)
        self._written.append(self._last_of[name])


def _write_after(before: Future[None] | None, file: TableFile, rows: ArrowRows) -> None:
    """Write a group once the one before it in the same file is written."""
    if before is not None:
        before.result()
    _guarded(file.write, rows)
    pa.default_memory_pool().release_unused()


def _guarded(action: Any, *arguments: Any) -> None:
    try:
        action(*arguments)
    except OSError as error:
        raise TargetError(f"the target cannot be written: {error.strerror or error}") from error
