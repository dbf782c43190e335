"""A run: source, kernel, shape, layout, tables and sink joined, with a receipt at the end."""

from __future__ import annotations

from collections.abc import Mapping
from contextlib import ExitStack
from pathlib import Path
from typing import TYPE_CHECKING, Any, Unpack, cast

import pyarrow as pa

from tessaron.core.base.errors import TargetError, UsageError
from tessaron.core.layout.table_set import TableSet
from tessaron.engine.options import Options
from tessaron.engine.run_options import RunOptions
from tessaron.engine.run_progress import NoProgress, Progress
from tessaron.sinks.store_target import StoreTarget
from tessaron.sinks.table_files import TableFiles
from tessaron.sinks.target_folder import (
    LAYOUT_FILE,
    LOAD_SCRIPT,
    RECEIPT_FILE,
    REJECTS_FILE,
    TargetFolder,
    sha256_of,
)
from tessaron.sources.forms.addresses import without_user
from tessaron.sources.forms.file_form import FileForm, FileOptions, FormatName
from tessaron.sources.inputs import ByteInput
from tessaron.sources.remote.store_urls import is_store
from tessaron.sources.resolving import Source, resolve_inputs
from tessaron.write.books.receipt import Receipt
from tessaron.write.books.receipt_making import Clock, Written, receipt_of
from tessaron.write.made_tables import Tables
from tessaron.write.mended_rejects import inputs_of_rejects
from tessaron.write.table_run import MakesRun, TableRun, start_run

if TYPE_CHECKING:
    from tessaron.decide.layout_file import Layout
    from tessaron.engine.parts.clusters import Cluster
    from tessaron.sinks.spreadsheet_file import SpreadsheetFile


class ExportOptions(RunOptions, FileOptions, total=False):
    """What may be said about an export by name."""


def shred(
    source: Source,
    *,
    layout: Layout | None = None,
    progress: Progress | None = None,
    **options: Unpack[RunOptions],
) -> Tables:
    """Return the tables that the records of `source` make, in memory.

    Args:
        source: A path (file or folder), bytes, an open binary file, a dict, a list or an iterator of
            records, or a list of `Path`s.
        layout: Which tables to make; else they are drafted from the data.
        progress: Is told how far the run is.
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
        run = start_run(resolve_inputs(source), Options.of(options), progress or NoProgress(), stack, layout)
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
    format: FormatName = "parquet",
    replace: bool = False,
    for_spreadsheets: bool = False,
    progress: Progress | None = None,
    layout: Layout | None = None,
    sync: bool = True,
    dialect: str = "postgresql",
    cluster: Cluster | str | None = None,
    **options: Unpack[ExportOptions],
) -> Receipt:
    """Write the tables that the records of `source` make into a folder, one file per table.

    Args:
        source: As in `shred`.
        target: The folder, or the URL of a place in an object store; made if it is not there. It appears
            whole or not at all; of a store see `store_target`.
        from_rejects: The `rejects.ndjson` of another export, whose records, mended there, are the source;
            `source` is None then.
        format: `parquet` (zstd), `csv` (RFC 4180), `tsv`, `arrow` (IPC), `jsonl` (a line of JSON for each
            row), or `xlsx`: one spreadsheet with a sheet for each table.
        replace: Whether an export that is there already may be replaced.
        for_spreadsheets: Whether texts of CSV that a spreadsheet would take for formulas begin with an
            apostrophe; rebuild and verify know of it.
        progress: Is told how far the run is.
        layout: Which tables to write; else they are drafted from the data.
        sync: Whether all of it is on the disk itself, and not only in the system's memory, when this returns:
            then it is whole after a power cut too.
        dialect: The dialect of `load.sql`, which makes the tables in a database and loads them; see `ddl`.
        cluster: Where the source is read, and tables written, in parts; see `Cluster`. Each table is a folder
            of part files then.
        **options: As in `shred`; and of `FileForm`, how files are written: compression, delimiter, quoting,
            null, encoding, line_end, header, group_rows, file_rows, partition, sort.

    Returns:
        The receipt, which also stands in the folder as `receipt.json`. Records and values that were rejected
        stand in `rejects.ndjson` beside it, and the layout in `layout.toml`.

    Raises:
        SourceError: When a source cannot be read.
        DataError: When it is not JSON; nothing is written then.
        TargetError: When the target cannot be written, or is not empty and `replace` is false.
        UsageError: When an argument cannot be right.
    """
    said, own = split_options(options)
    form = FileForm(format, for_spreadsheets=for_spreadsheets, **said)
    check_dialect(dialect)
    settled = Options.of(own)
    clock = Clock()
    if from_rejects is not None:
        if source is not None:
            raise UsageError("expected a source or from_rejects, got both")
        inputs, settled = inputs_of_rejects(Path(from_rejects), settled, layout)
    elif source is None:
        raise UsageError("expected a source, or from_rejects, got neither")
    else:
        inputs = resolve_inputs(source)
    with target_of(target, replace, sync) as folder, ExitStack() as stack:
        make = None if cluster is None else _parted(cluster, form, settled, stack)
        run = start_run(inputs, settled, progress or NoProgress(), stack, layout, make=make)
        plan = run.read()
        form.check_columns(name for table in plan.tables for name in table.arrow_schema().names)
        written = _write_tables(run, plan, folder, form, settled)
        done = run.done()
        receipt = receipt_of(
            done, plan, written, settled, clock, format, without_user(str(target)), layout, form
        )
        _write_text(folder.aside / RECEIPT_FILE, receipt.to_json())
        _write_text(folder.aside / LAYOUT_FILE, run.layout_text())
        _write_text(folder.aside / LOAD_SCRIPT, _load_script(plan, layout, dialect, written.files, form))
        if done.log.first:
            done.log.write(folder.aside / REJECTS_FILE)
        folder.commit()
    for entry in inputs:
        if isinstance(entry, ByteInput) and entry.finished is not None:
            entry.finished()
    return receipt


def _parted(cluster: Cluster | str, form: FileForm, options: Options, stack: ExitStack) -> MakesRun:
    """Return what makes a run on a cluster, which is open until the stack closes."""
    from tessaron.write.parted_exporting import check_form
    from tessaron.write.parted_run import run_on

    check_form(form)
    return run_on(cluster, options, stack)


def _write_tables(
    run: TableRun, plan: TableSet, target: TargetFolder | StoreTarget, form: FileForm, options: Options
) -> Written:
    """Write the rows of a run, here or wherever its parts are."""
    if run.is_elsewhere:
        from tessaron.write.parted_exporting import write_files

        return write_files(run, plan, target, form, options.collected_bytes())
    workers = options.worker_count()
    threads = workers if workers > 1 else 0
    files = _files(target.aside, plan, form, options.collected_bytes(), threads)
    with files:
        for rows in run.rows():
            files.write(rows)
            rows.clear()
    digests = {name: sha256_of(target.aside / file) for name, file in files.names.items()}
    return Written(files.rows, files.values, files.names, digests)


def split_options(options: ExportOptions) -> tuple[dict[str, Any], RunOptions]:
    """Return what is said of files, and the rest."""
    names = FileOptions.__annotations__
    own = {name: value for name, value in options.items() if name not in names}
    said = {
        name: tuple(value) if isinstance(value, list) else value
        for name, value in options.items()
        if name in names
    }
    return said, cast("RunOptions", own)


def _files(
    folder: Path, plan: TableSet, form: FileForm, collected_bytes: int, threads: int
) -> TableFiles | SpreadsheetFile:
    if form.name != "xlsx":
        return TableFiles(folder, plan, form, collected_bytes, threads)
    from tessaron.sinks.spreadsheet_file import SpreadsheetFile

    return SpreadsheetFile(folder, plan)


def check_dialect(name: str) -> None:
    """Raise `UsageError` unless there is a dialect of this name."""
    from tessaron.sinks.ddl.known_dialects import dialect_named

    dialect_named(name)


def _load_script(
    plan: TableSet, layout: Layout | None, dialect: str, names: Mapping[str, str], form: FileForm
) -> str:
    from tessaron.sinks.ddl.create_tables import CreateTables, required_columns
    from tessaron.sinks.ddl.known_dialects import dialect_named
    from tessaron.sinks.ddl.load_script import load_script

    required = frozenset() if layout is None else required_columns(layout.part)
    return load_script(CreateTables(dialect_named(dialect), plan.tables, None, required), names, form)


def target_of(target: str | Path, replace: bool, sync: bool) -> TargetFolder | StoreTarget:
    """Return where tables are written: a folder, or a place in an object store."""
    if is_store(target):
        return StoreTarget(str(target), replace)
    return TargetFolder(Path(target), replace, sync)


def _write_text(path: Path, text: str) -> None:
    try:
        path.write_text(text, "utf-8")
    except OSError as error:
        raise TargetError(f"the target cannot be written: {error.strerror}") from error
