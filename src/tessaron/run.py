"""A run: source, kernel, shape, layout, tables and sink joined, with a receipt at the end."""

from __future__ import annotations

import time
from collections.abc import Iterator
from dataclasses import dataclass, field
from datetime import UTC, datetime
from itertools import islice
from pathlib import Path
from typing import Any, Literal, Protocol

import pyarrow as pa

from tessaron._version import __version__
from tessaron.core.conform import conform
from tessaron.core.drafting import draft_layout
from tessaron.core.errors import DataError, Place, TargetError
from tessaron.core.fragment import Fault, Fragment
from tessaron.core.kernel import choose_kernel
from tessaron.core.kernel.growing import FragmentBuilder
from tessaron.core.layout import Layout
from tessaron.core.naming import name_of_source
from tessaron.core.paths import format_path
from tessaron.core.result import Tables
from tessaron.core.shape import Shape
from tessaron.core.splitting import Chunk
from tessaron.core.structure import StructureNote, settle
from tessaron.core.tables import make_tables
from tessaron.receipt import RECEIPT_FILE, ColumnWritten, Receipt, SourceRead, TableWritten
from tessaron.sinks.table_files import TableFiles, check_format
from tessaron.sinks.target import TargetFolder
from tessaron.sources.chunks import CHUNK_BYTES, read_chunks
from tessaron.sources.inputs import ByteInput, Input, ObjectInput, resolve_inputs
from tessaron.spill import Spill

_OBJECTS_AT_ONCE = 2_000
"""Python objects that make one fragment."""


class Progress(Protocol):
    """Is told how far a run is; see `views.progress` for one that draws a bar."""

    def start(self, total_bytes: int | None) -> None:
        """Reading begins; `total_bytes` is None when a source does not tell its size."""

    def read(self, byte_count: int) -> None:
        """So many more bytes were read."""

    def write(self, step: int, steps: int) -> None:
        """Of `steps` fragments, `step` were turned into rows."""


class _NoProgress:
    def start(self, total_bytes: int | None) -> None:
        pass

    def read(self, byte_count: int) -> None:
        pass

    def write(self, step: int, steps: int) -> None:
        pass


def shred(source: Any, *, name: str | None = None, chunk_bytes: int = CHUNK_BYTES) -> Tables:
    """Return the tables that the records of `source` make, in memory.

    Args:
        source: A path (file or folder), bytes, an open binary file, a dict, a list or an iterator of
            records, or a list of `Path`s.
        name: Name of the top table; by default it comes from the file's name, else `records`.
        chunk_bytes: Bytes read at once; changes memory and speed, never the tables.

    Returns:
        A mapping of table name to `pyarrow.Table`, parents before children.

    Raises:
        SourceError: When a source cannot be read.
        DataError: When it is not JSON.
        UsageError: When `source` is nothing that can be read.
    """
    with Spill() as spill:
        reading = _Reading(resolve_inputs(source), spill, _NoProgress(), chunk_bytes)
        reading.read_all()
        layout = reading.settle(name)
        batches: dict[str, list[Any]] = {table.name: [] for table in layout.tables}
        for rows in reading.rows(layout):
            for table, batch in rows.items():
                batches[table].append(batch)
    tables = {
        table.name: pa.Table.from_batches(batches[table.name], table.arrow_schema())
        for table in layout.tables
    }
    return Tables(tables, layout, reading.shape.record_count, reading.shown_notes())


def export(
    source: Any,
    target: str | Path,
    *,
    format: Literal["parquet", "csv"] = "parquet",
    name: str | None = None,
    replace: bool = False,
    progress: Progress | None = None,
    chunk_bytes: int = CHUNK_BYTES,
) -> Receipt:
    """Write the tables that the records of `source` make into a folder, one file per table.

    Args:
        source: As in `shred`.
        target: The folder; made if it is not there. It appears whole or not at all.
        format: `parquet` (zstd) or `csv` (RFC 4180).
        name: Name of the top table; by default it comes from the file's name, else `records`.
        replace: Whether an export that is there already may be replaced.
        progress: Is told how far the run is.
        chunk_bytes: Bytes read at once; changes memory and speed, never the tables.

    Returns:
        The receipt, which also stands in the folder as `receipt.json`.

    Raises:
        SourceError: When a source cannot be read.
        DataError: When it is not JSON; nothing is written then.
        TargetError: When the target cannot be written, or is not empty and `replace` is false.
        UsageError: When an argument cannot be right.
    """
    check_format(format)
    started, clock = datetime.now(UTC), time.perf_counter()
    inputs = resolve_inputs(source)
    with TargetFolder(Path(target), replace) as folder, Spill() as spill:
        reading = _Reading(inputs, spill, progress or _NoProgress(), chunk_bytes)
        reading.read_all()
        layout = reading.settle(name)
        files = TableFiles(folder.aside, layout, format)
        for rows in reading.rows(layout):
            files.write(rows)
        files.close()
        receipt = Receipt(
            version=__version__,
            started=started.isoformat(timespec="seconds"),
            seconds=round(time.perf_counter() - clock, 3),
            format=format,
            target=str(target),
            sources=tuple(reading.sources),
            records=reading.shape.record_count,
            tables=_tables_written(layout, files),
        )
        _write_receipt(folder.aside / RECEIPT_FILE, receipt)
        folder.commit()
    return receipt


@dataclass(slots=True)
class _Reading:
    """The first half of a run: inputs become fragments, which are put aside, and a shape."""

    inputs: list[Input]
    spill: Spill
    progress: Progress
    chunk_bytes: int
    shape: Shape = field(default_factory=Shape)
    sources: list[SourceRead] = field(default_factory=list)
    notes: list[StructureNote] = field(default_factory=list)
    fragment_count: int = 0
    _bytes: int = 0

    def name(self) -> str:
        """Return the name that the first input suggests for the top table."""
        first = self.inputs[0]
        return name_of_source(first.name) if isinstance(first, ByteInput) and first.path else "records"

    def read_all(self) -> None:
        """Parse all inputs, once."""
        sizes = [entry.size for entry in self.inputs]
        self.progress.start(None if None in sizes else sum(size for size in sizes if size is not None))
        for entry in self.inputs:
            records, byte_count = self.shape.record_count, self._bytes
            for fragment in self._fragments(entry):
                self.shape.add(fragment)
                self.spill.write(fragment)
                self.fragment_count += 1
            read = self.shape.record_count - records
            self.sources.append(SourceRead(entry.name, self._bytes - byte_count, read))

    def rows(self, layout: Layout) -> Iterator[dict[str, Any]]:
        """Yield, fragment by fragment, the rows of every table."""
        rows_before: dict[str, int] = {}
        for step, fragment in enumerate(self.spill.read(), 1):
            conformed = conform(fragment, self.shape.record)
            batches = make_tables(conformed, layout, rows_before)
            yield batches
            for table, batch in batches.items():
                rows_before[table] = rows_before.get(table, 0) + batch.num_rows
            self.progress.write(step, self.fragment_count)

    def shown_notes(self) -> list[tuple[str, str]]:
        """Return what was recognised, with JSONPaths."""
        return [(format_path(note.path), note.text) for note in self.notes]

    def settle(self, name: str | None) -> Layout:
        """Settle the structure, once all is read, and return the layout drafted from it."""
        self.notes = settle(self.shape)
        return draft_layout(self.shape.record, name or self.name())

    def _fragments(self, entry: Input) -> Iterator[Fragment]:
        if isinstance(entry, ObjectInput):
            yield from _fragments_of_objects(entry)
            return
        first = self.shape.record_count
        kernel = choose_kernel()
        for chunk in read_chunks(entry, self._count_bytes, self.chunk_bytes):
            fragment = kernel(chunk.data, chunk.separator, chunk.continues)
            if fragment.faults:
                before = self.shape.record_count - first
                raise _data_error(fragment.faults[0], chunk, entry.name, before)
            yield fragment

    def _count_bytes(self, byte_count: int) -> None:
        self._bytes += byte_count
        self.progress.read(byte_count)


def _fragments_of_objects(entry: ObjectInput) -> Iterator[Fragment]:
    while True:
        builder = FragmentBuilder()
        for record in islice(entry.records, _OBJECTS_AT_ONCE):
            builder.add(record)
        if not builder.record_count:
            return
        yield builder.finish()


def _data_error(fault: Fault, chunk: Chunk, source: str, records_before: int) -> DataError:
    place = Place(
        source,
        line=chunk.line + chunk.data.count(b"\n", 0, fault.byte_offset),
        byte_offset=chunk.byte_offset + fault.byte_offset,
        record=records_before + fault.record + 1,
        path=format_path(fault.path) if fault.path else None,
    )
    return DataError(fault.reason, place, fault.code)


def _tables_written(layout: Layout, files: TableFiles) -> tuple[TableWritten, ...]:
    return tuple(
        TableWritten(
            table.name,
            files.names[table.name],
            files.rows[table.name],
            table.parent,
            (table.row_key,),
            () if table.parent_key is None else (table.parent_key,),
            tuple(ColumnWritten(key, "integer") for key in table.key_columns())
            + tuple(
                ColumnWritten(column.name, str(column.type), format_path(column.path), column.note)
                for column in table.columns
            ),
        )
        for table in layout.tables
    )


def _write_receipt(path: Path, receipt: Receipt) -> None:
    try:
        path.write_text(receipt.to_json(), "utf-8")
    except OSError as error:
        raise TargetError(f"the target cannot be written: {error.strerror}") from error
