"""Tables in several files: folders for values, files of so many rows, rows in the order of some columns."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any
from urllib.parse import quote

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from tessaron.core.base.arrays import ArrowRows, ArrowSchema
from tessaron.core.layout.table_set import Table
from tessaron.sinks.file_writers import TableFile, file_for
from tessaron.sources.forms.file_form import NO_VALUE, FileForm

_SORTED_AT_ONCE = 65_536
_MOST_OPEN = 64
"""So many files, at most, are open at once; others are closed, and go on in a file of their own."""


def writer_of(folder: Path, table: Table, form: FileForm) -> tuple[str, TableFile]:
    """Return the name of a table's file or folder, and what writes it.

    Args:
        folder: Where it goes.
        table: The table.
        form: How; columns to part or sort by count where the table has them.
    """
    schema = table.arrow_schema()
    parts = [name for name in form.partition if name in schema.names]
    made: TableFile
    if form.has_folders:
        name = table.name
        made = PartedFiles(folder / name, table, form, parts)
    else:
        name = table.name + form.ending
        made = file_for(folder / name, table, form, schema)
    by = [each for each in form.sort if each in schema.names]
    return name, SortedRows(made, schema, by) if by else made


class PartedFiles:
    """A folder of files, with folders for the values of columns (`status=open/`), which stand in no file.

    Args:
        folder: The folder of the table.
        table: The table.
        form: How files are written, and how many rows each has.
        columns: The columns whose values are folders.
    """

    def __init__(self, folder: Path, table: Table, form: FileForm, columns: list[str]):
        self._folder, self._table, self._form, self._columns = folder, table, form, columns
        whole = table.arrow_schema()
        self._schema: ArrowSchema = pa.schema([field for field in whole if field.name not in columns])
        self._open: dict[str, tuple[TableFile, int]] = {}
        self._counts: dict[str, int] = {}
        folder.mkdir(parents=True, exist_ok=True)

    def write(self, rows: ArrowRows) -> None:
        """Append a `pyarrow.Table`; without rows, and without any before, it makes an empty file."""
        if not rows.num_rows and not self._counts:
            self._append("", rows.select(self._schema.names))
        for place, part in self._by_place(rows):
            self._append(place, part.select(self._schema.names))

    def close(self) -> None:
        """Finish all files."""
        for file, _ in self._open.values():
            file.close()
        self._open.clear()

    def _append(self, place: str, rows: ArrowRows) -> None:
        start = 0
        while True:
            file, count = self._file(place)
            room = self._form.file_rows - count if self._form.file_rows else rows.num_rows - start
            part = rows.slice(start, room)
            file.write(part)
            start += part.num_rows
            self._open[place] = file, count + part.num_rows
            if self._form.file_rows and count + part.num_rows >= self._form.file_rows:
                self._open.pop(place)[0].close()
            if start >= rows.num_rows:
                return

    def _file(self, place: str) -> tuple[TableFile, int]:
        known = self._open.pop(place, None)
        if known is not None:
            # The one that was written to last is closed last.
            self._open[place] = known
            return known
        if len(self._open) >= _MOST_OPEN:
            self._open.pop(next(iter(self._open)))[0].close()
        self._counts[place] = self._counts.get(place, 0) + 1
        folder = self._folder / place
        folder.mkdir(parents=True, exist_ok=True)
        path = folder / f"part-{self._counts[place]:05}{self._form.ending}"
        return file_for(path, self._table, self._form, self._schema), 0

    def _by_place(self, rows: ArrowRows) -> Iterator[tuple[str, ArrowRows]]:
        """Yield the rows of each combination of values with its folder, in the order of first sight."""
        if not self._columns:
            if rows.num_rows:
                yield "", rows
            return
        texts = [
            pc.coalesce(rows.column(name).cast(pa.large_string()), pa.scalar(NO_VALUE, pa.large_string()))
            for name in self._columns
        ]
        joined = pc.binary_join_element_wise(*texts, pa.scalar("\0", pa.large_string())).combine_chunks()
        encoded = joined.dictionary_encode()
        numbers = encoded.indices.to_numpy()
        order = np.argsort(numbers, kind="stable")
        ends = np.searchsorted(numbers[order], np.arange(len(encoded.dictionary)), side="right")
        for begin, end, value in zip([0, *ends[:-1]], ends, encoded.dictionary.to_pylist(), strict=False):
            values = value.split("\0")
            place = "/".join(
                f"{quote(name, safe=' ')}={quote(each, safe=' :+')}"
                for name, each in zip(self._columns, values, strict=True)
            )
            yield place, rows.take(pa.array(order[begin:end]))


class SortedRows:
    """Brings the rows of a table in an order: keys in memory, all else in a temporary file."""

    def __init__(self, file: TableFile, schema: ArrowSchema, columns: list[str]):
        self._file, self._columns = file, columns
        self._aside: Any = tempfile.NamedTemporaryFile(prefix="tessaron-")  # noqa: SIM115
        self._writer: Any = pa.ipc.new_file(self._aside.name, schema)

    def write(self, rows: ArrowRows) -> None:
        """Put rows aside."""
        self._writer.write_table(rows)

    def close(self) -> None:
        """Write all rows, and finish the file."""
        if self._aside is None:
            return
        self._writer.close()
        with pa.memory_map(self._aside.name) as source:
            whole = pa.ipc.open_file(source).read_all()
            by = [(name, "ascending") for name in self._columns]
            order = pc.sort_indices(whole.select(self._columns), by)
            for start in range(0, max(len(order), 1), _SORTED_AT_ONCE):
                self._file.write(whole.take(order[start : start + _SORTED_AT_ONCE]))
        self._file.close()
        self._aside.close()
        self._aside = None
