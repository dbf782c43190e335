"""A run: source, kernel, shape, layout, tables and sink joined, with a receipt at the end."""

from __future__ import annotations

import time
from collections.abc import Iterator
from contextlib import ExitStack
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal, Unpack

import pyarrow as pa

from tessaron._version import __version__
from tessaron.core.base.errors import TargetError, UsageError
from tessaron.core.base.paths import format_path
from tessaron.core.layout.table_set import TableSet
from tessaron.engine.feeds import NoProgress, Progress
from tessaron.engine.options import Options
from tessaron.engine.run_options import RunOptions
from tessaron.sinks.store_target import StoreTarget
from tessaron.sinks.table_files import TableFiles, check_format
from tessaron.sinks.target_folder import LAYOUT_FILE, RECEIPT_FILE, REJECTS_FILE, TargetFolder, sha256_of
from tessaron.sources.forms.addresses import without_user
from tessaron.sources.inputs import ByteInput, Input
from tessaron.sources.remote.store_urls import is_store
from tessaron.sources.resolving import Source, resolve_inputs
from tessaron.write.balance import Balance
from tessaron.write.made_tables import Tables
from tessaron.write.mended_rejects import inputs_of_rejects
from tessaron.write.outcome import Outcome
from tessaron.write.receipt import ColumnWritten, ForeignKey, LeftOut, Note, Receipt, TableWritten
from tessaron.write.table_run import TableRun

if TYPE_CHECKING:
    from tessaron.decide.layout_file import Layout


def shred(source: Source, *, layout: Layout | None = None, **options: Unpack[RunOptions]) -> Tables:
    """Return the tables that the records of `source` make, in memory.

    Args:
        source: A path (file or folder), bytes, an open binary file, a dict, a list or an iterator of
            records, or a list of `Path`s.
        layout: Which tables to make; else they are drafted from the data.
        **options: See `Options`: name, records, envelope, duplicate_keys, dictionaries, not_dictionaries,
            origin, only, without, flat, times, with_empty, strict, workers, memory, depth_limit, chunk_bytes,
            kernel. With a layout those that it speaks of itself are not taken.

    Returns:
        A mapping of table name to `pyarrow.Table`, parents before children.

    Raises:
        SourceError: When a source cannot be read.
        DataError: When it is not JSON.
        UsageError: When `source` is nothing that can be read, or an option cannot be right.
    """
    with ExitStack() as stack:
        run = start_run(resolve_inputs(source), Options.of(options), NoProgress(), stack, layout)
        plan = run.read()
        batches: dict[str, list[Any]] = {table.name: [] for table in plan.tables}
        for rows in run.rows():
            for table, batch in rows.items():
                batches[table].append(batch)
        tables = {
            table.name: pa.Table.from_batches(batches[table.name], table.arrow_schema())
            for table in plan.tables
        }
        done = run.done()
        return Tables(
            tables,
            plan,
            done.records,
            notes=done.notes,
            rejects=tuple(done.log.first),
            candidate_keys=done.candidate_keys,
            key_check=done.key_check,
            is_partial=done.is_partial,
            findings=done.findings,
            filtered=done.filtered,
            unmet=done.unmet,
        )


def export(
    source: Source | None,
    target: str | Path,
    *,
    from_rejects: str | Path | None = None,
    format: Literal["parquet", "csv"] = "parquet",
    replace: bool = False,
    for_spreadsheets: bool = False,
    progress: Progress | None = None,
    layout: Layout | None = None,
    sync: bool = True,
    **options: Unpack[RunOptions],
) -> Receipt:
    """Write the tables that the records of `source` make into a folder, one file per table.

    Args:
        source: As in `shred`.
        target: The folder, or the URL of a place in an object store; made if it is not there. It appears
            whole or not at all; of a store see `store_target`.
        from_rejects: The `rejects.ndjson` of another export, whose records, mended there, are the source;
            `source` is None then.
        format: `parquet` (zstd) or `csv` (RFC 4180).
        replace: Whether an export that is there already may be replaced.
        for_spreadsheets: Whether texts of CSV that a spreadsheet would take for formulas begin with an
            apostrophe; rebuild and verify know of it.
        progress: Is told how far the run is.
        layout: Which tables to write; else they are drafted from the data.
        sync: Whether all of it is on the disk itself, and not only in the system's memory, when this returns:
            then it is whole after a power cut too.
        **options: As in `shred`.

    Returns:
        The receipt, which also stands in the folder as `receipt.json`. Records and values that were rejected
        stand in `rejects.ndjson` beside it, and the layout in `layout.toml`.

    Raises:
        SourceError: When a source cannot be read.
        DataError: When it is not JSON; nothing is written then.
        TargetError: When the target cannot be written, or is not empty and `replace` is false.
        UsageError: When an argument cannot be right.
    """
    check_format(format)
    if for_spreadsheets and format != "csv":
        raise UsageError(f"for_spreadsheets goes with csv, not with {format}")
    settled = Options.of(options)
    started, clock = datetime.now(UTC), time.perf_counter()
    if from_rejects is not None:
        if source is not None:
            raise UsageError("expected a source or from_rejects, got both")
        inputs, settled = inputs_of_rejects(Path(from_rejects), settled, layout)
    elif source is None:
        raise UsageError("expected a source, or from_rejects, got neither")
    else:
        inputs = resolve_inputs(source)
    with target_of(target, replace, sync) as folder, ExitStack() as stack:
        run = start_run(inputs, settled, progress or NoProgress(), stack, layout)
        plan = run.read()
        workers = settled.worker_count()
        threads = workers if workers > 1 else 0
        files = TableFiles(folder.aside, plan, format, settled.collected_bytes(), threads, for_spreadsheets)
        with files:
            for rows in run.rows():
                files.write(rows)
                rows.clear()
        done = run.done()
        receipt = Receipt(
            version=__version__,
            started=started.isoformat(timespec="seconds"),
            seconds=round(time.perf_counter() - clock, 3),
            format=format,
            target=without_user(str(target)),
            sources=done.sources,
            records=done.records,
            rejected=done.rejected,
            repeated_names=done.repeated_names,
            tables=_tables_written(plan, files, folder.aside),
            notes=tuple(Note(path, text) for path, text in done.notes),
            candidate_keys=done.candidate_keys,
            key_check=done.key_check,
            layout=None if layout is None else layout.source,
            key_checks=done.key_checks,
            filtered=dict(done.filtered),
            left_out=tuple(LeftOut(path, count) for path, count in sorted(done.left_out.items())),
            rejected_values=done.rejected_values,
            findings=done.findings,
            unmet=done.unmet,
            reasons=dict(done.log.reasons.most_common()),
            for_spreadsheets=for_spreadsheets,
            is_whole=done.is_whole,
            depth_limit=settled.depth_limit,
            balance=tuple(_balances(done, plan, files)),
        )
        _write_text(folder.aside / RECEIPT_FILE, receipt.to_json())
        _write_text(folder.aside / LAYOUT_FILE, run.layout_text())
        if done.log.first:
            done.log.write(folder.aside / REJECTS_FILE)
        folder.commit()
    for entry in inputs:
        if isinstance(entry, ByteInput) and entry.finished is not None:
            entry.finished()
    return receipt


def target_of(target: str | Path, replace: bool, sync: bool) -> TargetFolder | StoreTarget:
    """Return where tables are written: a folder, or a place in an object store."""
    if is_store(target):
        return StoreTarget(str(target), replace)
    return TargetFolder(Path(target), replace, sync)


def start_run(
    inputs: list[Input], options: Options, progress: Progress, stack: ExitStack, layout: Layout | None
) -> TableRun:
    """Return the run that fits: with a layout, or one that drafts its own."""
    if options.memory is not None:
        # The other allocators keep what was freed for later; this one gives it back.
        stack.callback(pa.set_memory_pool, pa.default_memory_pool())
        pa.set_memory_pool(pa.system_memory_pool())
    if layout is None:
        return TableRun(inputs, options, progress, stack)
    # The model of layouts takes time to load; a run without one does not need it.
    from tessaron.decide.layout_options import with_layout

    options.check_with_layout()
    compiled = layout.compiled(options.strict)
    return TableRun(inputs, with_layout(options, compiled), progress, stack, compiled, layout.text)


def _balances(done: Outcome, layout: TableSet, files: TableFiles) -> Iterator[Balance]:
    """Yield the sums of what was read and what was written: records, then rows and values of each table."""
    if done.top in done.counted:
        read = sum(source.records + source.rejected for source in done.sources)
        own = done.counted[done.top]
        yield Balance("records", "", read, files.rows[done.top], own.filtered, own.rejected + done.unread)
    for table in layout.tables:
        counted = done.counted.get(table.name)
        if counted is not None:
            yield Balance(
                "rows", table.name, counted.read, files.rows[table.name], counted.filtered, counted.rejected
            )
        for name, values in zip(table.arrow_schema().names, files.values[table.name], strict=True):
            counted = done.counted.get(f"{table.name}.{name}")
            if counted is not None:
                yield Balance(
                    "values", f"{table.name}.{name}", counted.read, values, counted.filtered, counted.rejected
                )


def _tables_written(layout: TableSet, files: TableFiles, folder: Path) -> tuple[TableWritten, ...]:
    return tuple(
        TableWritten(
            table.name,
            files.names[table.name],
            files.rows[table.name],
            sha256_of(folder / files.names[table.name]),
            table.only_parent(),
            (table.row_key,),
            tuple(ForeignKey(column, other) for column, other in table.references()),
            tuple(ColumnWritten(key, table.key_type_of(key)) for key in table.key_columns())
            + tuple(
                ColumnWritten(
                    column.name, str(column.type), column.shown or format_path(column.path), column.note
                )
                for column in table.columns
            ),
            table.places,
        )
        for table in layout.tables
    )


def _write_text(path: Path, text: str) -> None:
    try:
        path.write_text(text, "utf-8")
    except OSError as error:
        raise TargetError(f"the target cannot be written: {error.strerror}") from error
