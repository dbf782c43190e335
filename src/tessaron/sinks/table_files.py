"""Writing tables to files: rows are collected per table and written in groups, in the form that is wanted."""

from __future__ import annotations

from collections import deque
from concurrent.futures import Future, ThreadPoolExecutor
from pathlib import Path
from types import TracebackType
from typing import Any

import pyarrow as pa

from tessaron.core.base.arrays import ArrowRows
from tessaron.core.base.errors import TargetError
from tessaron.core.layout.table_set import TableSet
from tessaron.sinks.collected_rows import CollectedRows
from tessaron.sinks.file_writers import TableFile
from tessaron.sinks.parted_files import writer_of
from tessaron.sources.forms.file_form import FileForm


class TableFiles:
    """Writes every table of a layout to a file of its own in one folder.

    Rows are written in groups; see `CollectedRows`. A context; it closes the files.

    Args:
        folder: Where the files go.
        layout: The tables.
        form: How they are written.
        collected_bytes: Bytes of rows, all tables together, before the largest group is written early.
        threads: Threads that encode groups; with none it is done at once.

    Attributes:
        names: The file, or the folder of files, of each table.
        rows: The rows written to each.
        values: The values, null aside, written to each of its columns.
    """

    def __init__(
        self,
        folder: Path,
        layout: TableSet,
        form: FileForm,
        collected_bytes: int,
        threads: int = 0,
    ):
        made = {table.name: writer_of(folder, table, form) for table in layout.tables}
        self.names = {name: file for name, (file, _) in made.items()}
        self._collected = CollectedRows(layout.tables, collected_bytes, self._encode)
        self.rows, self.values = self._collected.rows, self._collected.values
        self._files = {name: writer for name, (_, writer) in made.items()}
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
    except TargetError:
        raise
    except OSError as error:
        raise TargetError(f"the target cannot be written: {error.strerror or error}") from error
