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
from tessaron.core.errors import TargetError, UsageError
from tessaron.core.layout import Column, Layout
from tessaron.core.naming import Names
from tessaron.core.paths import Origin, format_path
from tessaron.core.result import Tables
from tessaron.core.work import RowsTask
from tessaron.options import Options
from tessaron.pool import Pool
from tessaron.reading import Feed, NoProgress, Progress, Reading
from tessaron.receipt import (
    RECEIPT_FILE,
    REJECTS_FILE,
    ColumnWritten,
    KeyCheck,
    Note,
    Receipt,
    Reference,
    TableWritten,
)
from tessaron.sinks.table_files import TableFiles, check_format
from tessaron.sinks.target import TargetFolder
from tessaron.sources.inputs import Input, resolve_inputs
from tessaron.spill import Spill
from tessaron.uniqueness import CandidateKeys, UniqueCheck


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
        run = _Run(resolve_inputs(source), Options.of(options), NoProgress(), stack)
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
        return Tables(
            tables,
            layout,
            reading.records.shape.record_count,
            notes=reading.notes,
            rejects=reading.rejects,
            candidate_keys=run.candidate_keys(),
            key_check=run.key_check(),
            is_partial=reading.is_partial,
        )


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
    settled = Options.of(options)
    started, clock = datetime.now(UTC), time.perf_counter()
    inputs = resolve_inputs(source)
    with TargetFolder(Path(target), replace) as folder, ExitStack() as stack:
        run = _Run(inputs, settled, progress or NoProgress(), stack)
        layout = run.read()
        workers = settled.worker_count()
        threads = workers if workers > 1 else 0
        files = TableFiles(folder.aside, layout, format, settled.collected_bytes(), threads)
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
            candidate_keys=run.candidate_keys(),
            key_check=run.key_check(),
        )
        _write_text(folder.aside / RECEIPT_FILE, receipt.to_json())
        if reading.rejects:
            lines = "".join(reject.to_json() + "\n" for reject in reading.rejects)
            _write_text(folder.aside / REJECTS_FILE, lines)
        folder.commit()
    return receipt


class _Run:
    """One run: read all, draft the layout, then turn the fragments into rows."""

    def __init__(self, inputs: list[Input], options: Options, progress: Progress, stack: ExitStack):
        if options.memory is not None:
            # The other allocators keep what was freed for later; this one gives it back.
            stack.callback(pa.set_memory_pool, pa.default_memory_pool())
            pa.set_memory_pool(pa.system_memory_pool())
        self._options = options
        self._progress = progress
        sizes = [entry.size for entry in inputs]
        self._pool = stack.enter_context(Pool(options.worker_count(), sizes))
        feeds = [Feed(stack.enter_context(Spill())) for _ in range(2)]
        self.reading = Reading(inputs, options, feeds[0], feeds[1], progress, self._pool)
        self._layouts: list[tuple[Feed, Layout]] = []
        self._stack = stack
        self._check: UniqueCheck | None = None
        self._candidates = CandidateKeys([])

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
        layout = self._with_keys(layout)
        self._layouts.append((reading.records, layout))
        return Layout(tuple(table for _, each in self._layouts for table in each.tables))

    def _with_keys(self, layout: Layout) -> Layout:
        """Return the layout with the keys that were asked for, and watch the columns of the top table."""
        top = layout.tables[0]
        names = [column.name for column in top.columns]
        unknown = [name for name in self._options.key if name not in names]
        if unknown:
            raise UsageError(
                f"no column {unknown[0]!r} in {top.name} for its key; there are {', '.join(names)}"
            )
        if self._options.key:
            self._check = self._stack.enter_context(UniqueCheck(tuple(self._options.key)))
        elif self._options.keys == "digest":
            self._check = self._stack.enter_context(UniqueCheck((top.row_key,)))
        possible = [column.name for column in top.columns if _may_be_key(column)]
        self._candidates = self._stack.enter_context(CandidateKeys(possible))
        if self._options.keys == "sequence":
            return layout
        tables = tuple(replace(table, key_type="text") for table in layout.tables)
        return Layout(tables, tuple(self._options.key))

    def _watch(self, batch: Any) -> None:
        if batch.num_rows:
            self._candidates.add(batch)
            if self._check is not None:
                self._check.add(batch)

    def key_check(self) -> KeyCheck | None:
        """Return how the key of the top table stood the test of being unique; None if there was none."""
        if self._check is None:
            return None
        return KeyCheck(self._check.columns, self._check.duplicates(), self._check.nulls)

    def candidate_keys(self) -> tuple[str, ...]:
        """Return the columns that could be the natural key of the top table."""
        return tuple(self._candidates.names())

    def rows(self) -> Iterator[dict[str, Any]]:
        """Yield, fragment by fragment, the rows of the tables."""
        steps = sum(len(feed.records_before) for feed, _ in self._layouts)
        step = 0
        for feed, layout in self._layouts:
            rows_before: dict[str, int] = {}
            tasks = map(RowsTask, feed.spill.read(), feed.records_before)
            for batches in self._pool.map_rows(tasks, feed.shape.record, layout, rows_before):
                step += 1
                if feed is self.reading.records:
                    self._watch(batches[layout.tables[0].name])
                yield batches
                self._progress.write(step, steps)


def _may_be_key(column: Column) -> bool:
    plain = column.type.name in ("integer", "text", "uuid", "decimal")
    return plain and not isinstance(column.path[-1:] and column.path[-1], Origin)


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
            tuple(Reference(column, other) for column, other in table.references()),
            tuple(ColumnWritten(key, table.key_type_of(key)) for key in table.key_columns())
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
