"""A run: source, kernel, shape, layout, tables and sink joined, with a receipt at the end."""

from __future__ import annotations

import time
from collections.abc import Iterator
from contextlib import ExitStack
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, Literal

import pyarrow as pa

from tessaron._version import __version__
from tessaron.core.drafting import draft_layout
from tessaron.core.errors import TargetError
from tessaron.core.layout import Layout
from tessaron.core.naming import Names
from tessaron.core.paths import Origin, format_path
from tessaron.core.result import Tables
from tessaron.core.work import RowsTask
from tessaron.options import Options
from tessaron.pool import Pool
from tessaron.reading import Feed, NoProgress, Progress, Reading
from tessaron.receipt import RECEIPT_FILE, REJECTS_FILE, ColumnWritten, Note, Receipt, TableWritten
from tessaron.sinks.table_files import TableFiles, check_format
from tessaron.sinks.target import TargetFolder
from tessaron.sources.inputs import Input, resolve_inputs
from tessaron.spill import Spill


def shred(source: Any, **options: Any) -> Tables:
    """Return the tables that the records of `source` make, in memory.

    Args:
        source: A path (file or folder), bytes, an open binary file, a dict, a list or an iterator of
            records, or a list of `Path`s.
        **options: See `Options`: name, records, envelope, duplicate_keys, dictionaries, not_dictionaries,
            origin, workers, memory, depth_limit, chunk_bytes, kernel.

    Returns:
        A mapping of table name to `pyarrow.Table`, parents before children.

    Raises:
        SourceError: When a source cannot be read.
        DataError: When it is not JSON.
        UsageError: When `source` is nothing that can be read, or an option cannot be right.
    """
    with ExitStack() as stack:
        run = _Run(resolve_inputs(source), _options(options), NoProgress(), stack)
        layout = run.read()
        batches: dict[str, list[Any]] = {table.name: [] for table in layout.tables}
        for rows in run.rows():
            for table, batch in rows.items():
                batches[table].append(batch)
    tables = {
        table.name: pa.Table.from_batches(batches[table.name], table.arrow_schema())
        for table in layout.tables
    }
    reading = run.reading
    return Tables(tables, layout, reading.records.shape.record_count, reading.notes, reading.rejects)


def export(
    source: Any,
    target: str | Path,
    *,
    format: Literal["parquet", "csv"] = "parquet",
    replace: bool = False,
    progress: Progress | None = None,
    **options: Any,
) -> Receipt:
    """Write the tables that the records of `source` make into a folder, one file per table.

    Args:
        source: As in `shred`.
        target: The folder; made if it is not there. It appears whole or not at all.
        format: `parquet` (zstd) or `csv` (RFC 4180).
        replace: Whether an export that is there already may be replaced.
        progress: Is told how far the run is.
        **options: As in `shred`.

    Returns:
        The receipt, which also stands in the folder as `receipt.json`. Records that were left out stand in
        `rejects.ndjson` beside it.

    Raises:
        SourceError: When a source cannot be read.
        DataError: When it is not JSON; nothing is written then.
        TargetError: When the target cannot be written, or is not empty and `replace` is false.
        UsageError: When an argument cannot be right.
    """
    check_format(format)
    settled = _options(options)
    started, clock = datetime.now(UTC), time.perf_counter()
    inputs = resolve_inputs(source)
    with TargetFolder(Path(target), replace) as folder, ExitStack() as stack:
        run = _Run(inputs, settled, progress or NoProgress(), stack)
        layout = run.read()
        files = TableFiles(
            folder.aside, layout, format, threads=settled.worker_count() if settled.worker_count() > 1 else 0
        )
        with files:
            for rows in run.rows():
                files.write(rows)
        reading = run.reading
        receipt = Receipt(
            version=__version__,
            started=started.isoformat(timespec="seconds"),
            seconds=round(time.perf_counter() - clock, 3),
            format=format,
            target=str(target),
            sources=tuple(reading.sources),
            records=reading.records.shape.record_count,
            rejected=reading.rejected,
            repeated_names=reading.repeated,
            tables=_tables_written(layout, files),
            notes=tuple(Note(path, text) for path, text in reading.notes),
        )
        _write_text(folder.aside / RECEIPT_FILE, receipt.to_json())
        if reading.rejects:
            lines = "".join(reject.to_json() + "\n" for reject in reading.rejects)
            _write_text(folder.aside / REJECTS_FILE, lines)
        folder.commit()
    return receipt


def _options(options: dict[str, Any]) -> Options:
    unknown = sorted(options.keys() - Options.__dataclass_fields__.keys())
    if unknown:
        raise TypeError(f"unknown option {unknown[0]!r}; there are {', '.join(Options.__dataclass_fields__)}")
    return Options(**options)


class _Run:
    """One run: read all, draft the layout, then turn the fragments into rows."""

    def __init__(self, inputs: list[Input], options: Options, progress: Progress, stack: ExitStack):
        self._options = options
        self._progress = progress
        sizes = [entry.size for entry in inputs]
        self._pool = stack.enter_context(Pool(options.worker_count(), sizes))
        feeds = [Feed(stack.enter_context(Spill())) for _ in range(2)]
        self.reading = Reading(inputs, options, feeds[0], feeds[1], progress, self._pool)
        self._layouts: list[tuple[Feed, Layout]] = []

    def read(self) -> Layout:
        """Parse all inputs and return the layout of all tables."""
        reading = self.reading
        reading.read_all()
        reading.settle()
        names = Names()
        layout = draft_layout(reading.records.shape.record, reading.top_name(), names)
        if reading.has_documents():
            around = draft_layout(reading.documents.shape.record, f"{layout.tables[0].name}_documents", names)
            documents = around.tables[0].name
            top = replace(layout.tables[0], documents=documents)
            layout = Layout((top, *layout.tables[1:]))
            self._layouts.append((reading.documents, around))
        else:
            layout = _without_document_key(layout)
        self._layouts.append((reading.records, layout))
        return Layout(tuple(table for _, each in self._layouts for table in each.tables))

    def rows(self) -> Iterator[dict[str, Any]]:
        """Yield, fragment by fragment, the rows of the tables."""
        steps = sum(len(feed.records_before) for feed, _ in self._layouts)
        step = 0
        for feed, layout in self._layouts:
            rows_before: dict[str, int] = {}
            tasks = map(RowsTask, feed.spill.read(), feed.records_before)
            for batches in self._pool.map_rows(tasks, feed.shape.record, layout, rows_before):
                step += 1
                yield batches
                self._progress.write(step, steps)


def _without_document_key(layout: Layout) -> Layout:
    top = layout.tables[0]
    columns = tuple(column for column in top.columns if column.path[-1:] != (Origin.DOCUMENT,))
    return Layout((replace(top, columns=columns, document_key=None), *layout.tables[1:]))


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


def _write_text(path: Path, text: str) -> None:
    try:
        path.write_text(text, "utf-8")
    except OSError as error:
        raise TargetError(f"the target cannot be written: {error.strerror}") from error
