"""A folder of tables that grows by part files: each run adds its own, whole or not at all."""

from __future__ import annotations

import json
import os
import shutil
from collections.abc import Mapping, Sequence
from contextlib import ExitStack
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any, Unpack

from tessaron.core.base.errors import Code, DataError, Place, SourceError, TargetError, UsageError
from tessaron.core.layout.table_set import TableSet
from tessaron.decide.layout_file import Layout
from tessaron.engine.options import Options
from tessaron.engine.run_progress import NoProgress, Progress
from tessaron.repeat.grown_receipts import grown_receipt, parts_of
from tessaron.repeat.keeping import KeptUp, ledger_url, told_of_deliveries
from tessaron.repeat.keeping_up import entries_of, marks_of
from tessaron.repeat.ledgers.deliveries import Delivery, sorted_deliveries, still_is
from tessaron.repeat.ledgers.ledger_places import LedgerBeside
from tessaron.repeat.ledgers.marked_sources import named_inputs
from tessaron.repeat.ledgers.run_lock import RunLock, lock_of
from tessaron.repeat.run_history import unplaced
from tessaron.sinks.database.run_records import RunRecord
from tessaron.sinks.receipt_text import spread_json
from tessaron.sinks.table_files import TableFiles
from tessaron.sinks.target_folder import LAYOUT_FILE, LOAD_SCRIPT, RECEIPT_FILE, REJECTS_FILE, TargetFolder
from tessaron.sources.database.engines import engine_of, told_by
from tessaron.sources.forms.file_form import FileForm, FormatName
from tessaron.sources.resolving import Source
from tessaron.write.books.receipt import read_receipt
from tessaron.write.books.receipt_making import Clock, Written, receipt_of
from tessaron.write.export import ExportOptions, split_options
from tessaron.write.exported_rows import is_export
from tessaron.write.load_place import CHANGES, OnChange
from tessaron.write.table_run import TableRun, start_run

_NEW = ".new"
_MOST_ROWS = 10_000_000
"""So many rows, at most, have the part files where nothing is said of it."""


@dataclass(frozen=True, slots=True)
class Grown:
    """What was done to a folder.

    Attributes:
        kept: Which sources were new, and what has changed in the structure.
        receipt: The receipt of the folder, all runs together; None where nothing was new in an empty folder.
        run: The number of the run; 0 where nothing was new.
        rows: The rows that it has added to each table.
    """

    kept: KeptUp
    receipt: Mapping[str, Any] | None
    run: int
    rows: Mapping[str, int]

    @property
    def passed(self) -> bool:
        """Whether nothing was rejected by this run, and no source has changed."""
        runs = [] if self.receipt is None else self.receipt["runs"]
        rejected = runs[-1]["rejected"] + runs[-1]["rejected_values"] if self.run and runs else 0
        return self.kept.passed and not rejected

    def to_json(self) -> str:
        """Return all of it as JSON."""
        told = json.loads(self.kept.to_json())
        del told["loads"]
        return spread_json({**told, "run": self.run, "rows": dict(self.rows), "receipt": self.receipt}) + "\n"


def grow(
    source: Source,
    target: str | Path,
    *,
    ledger: str | Path,
    on_change: OnChange = "note",
    wait: float = 600.0,
    format: FormatName | None = None,
    for_spreadsheets: bool = False,
    progress: Progress | None = None,
    layout: Layout | None = None,
    **options: Unpack[ExportOptions],
) -> Grown:
    """Add to a folder of tables what of `source` is not in it yet, and write down what that was.

    Args:
        source: Files, folders, patterns, archives or stores; a feed with a mark; a database with one.
        target: The folder; each table is a folder of part files in it.
        ledger: The ledger: a file of SQLite, or the URL of a database.
        on_change: What becomes of data at places that the tables have not: nothing is added (`stop`), it goes
            to the rejects (`note`), or tables get columns (`extend`): older part files have none of them.
        wait: Seconds to wait for another run.
        format: As in `export`; later runs go on with that of the first.
        for_spreadsheets: As in `export`.
        progress: Is told how far the run is.
        layout: The layout of the first run; later ones go on with that of the run before them.
        **options: As in `export`.

    Raises:
        SourceError: When a source cannot be read, or changes meanwhile.
        DataError: When it is neither JSON nor XML; with `stop`, when its structure has changed.
        TargetError: When the folder cannot be written, or another run does not end.
        UsageError: When an argument cannot be right.
    """
    if on_change not in CHANGES:
        raise UsageError(f"on_change: expected {', '.join(CHANGES)}, got {on_change!r}")
    said, own = split_options(options)
    said |= {"for_spreadsheets": True} if for_spreadsheets else {}
    told = progress or NoProgress()
    folder = Path(os.path.abspath(target))
    url = ledger_url(str(ledger))
    with ExitStack() as stack:
        for path in sorted({lock_of(folder), *([] if "sqlite" not in url else [lock_of(Path(url[10:]))])}):
            stack.enter_context(RunLock(path, told.say, wait))
        state = _Folder.of(folder, format, said)
        engine, name = engine_of(url, must_exist=False)
        stack.enter_context(told_by(engine, name, TargetError))
        connection = stack.enter_context(engine.connect())
        kept = LedgerBeside(connection, str(folder), state.top, state.run_of)
        found = sorted_deliveries(named_inputs(source, kept.ledger.mark, False), kept.ledger)
        kept.note([*found.same, *found.touched])
        told_of = told_of_deliveries(found, len(found.new), found.changed)
        if not found.new:
            return Grown(told_of, state.receipt, 0, {})
        kept.begin([each.entry for each in found.new])
        work = _Growing(state, found.new, Options.of(own), on_change, layout, told, kept)
        return work.run(told_of)


@dataclass(frozen=True)
class _Folder:
    """A folder that grows, as it is.

    Attributes:
        path: The folder.
        receipt: Its receipt; None for one that is to be.
        form: How its files are written.
    """

    path: Path
    receipt: Mapping[str, Any] | None
    form: FileForm

    @classmethod
    def of(cls, path: Path, format: FormatName | None, said: Mapping[str, Any]) -> _Folder:
        """Return the state of a folder.

        Raises:
            TargetError: When it is an export that does not grow.
            UsageError: When files were written otherwise so far.
        """
        if not is_export(path):
            form = FileForm(format or "parquet", **said)
            if form.name == "xlsx" or not form.header:
                raise UsageError("what grows tells its columns: no spreadsheet, nor CSV without a header")
            return cls(path, None, form if form.has_folders else replace(form, file_rows=_MOST_ROWS))
        receipt = read_receipt(path)
        if "runs" not in receipt:
            raise TargetError(f"{path}: is an export of one run, which does not grow; choose another folder")
        form = FileForm.of(receipt)
        if (format is not None and format != form.name) or any(
            getattr(form, name) != said[name] for name in said
        ):
            raise UsageError(f"{path}: its files are written otherwise; leave out what is said of them")
        return cls(path, receipt, form)

    @property
    def top(self) -> str:
        """The table of the records; empty for a folder that is to be."""
        return "" if self.receipt is None else str(self.receipt["top"])

    @property
    def rows(self) -> dict[str, int]:
        """The rows of each table."""
        return {} if self.receipt is None else {each["name"]: each["rows"] for each in self.receipt["tables"]}

    def run_of(self, token: str) -> tuple[int, str]:
        """Return the number of the run with a token, and the records' table; 0 for none."""
        runs = [] if self.receipt is None else self.receipt["runs"]
        return next(((each["run"], self.top) for each in runs if each["token"] == token), (0, ""))

    def left_out(self) -> frozenset[str]:
        """Return the places that the first run left out."""
        return frozenset(() if self.receipt is None else self.receipt["left_out_first"])


class _Growing:
    """One run that adds to a folder."""

    def __init__(
        self, state: _Folder, chosen: Sequence[Delivery], options: Options, on_change: OnChange,
        given: Layout | None, told: Progress, kept: LedgerBeside,
    ):  # fmt: skip
        self._state, self._chosen, self._options, self._on_change = state, chosen, options, on_change
        self._given, self._told, self._kept, self._clock = given, told, kept, Clock()

    def run(self, told_of: KeptUp) -> Grown:
        """Add what is new."""
        state, is_first = self._state, self._state.receipt is None
        layout = self._given if is_first else Layout.read(state.path / LAYOUT_FILE)
        options = self._options if is_first else self._options.for_layout()
        grows = self._on_change == "extend" and not is_first
        with TargetFolder(state.path, replace=True) as folder, ExitStack() as stack:
            if not is_first:
                _link_all(state.path, folder.aside)
            run = start_run(
                [each.source for each in self._chosen], options, self._told, stack, layout,
                None if is_first or grows else state.left_out(), grows,
            )  # fmt: skip
            plan = run.read()
            files = self._written(run, plan, folder.aside / _NEW)
            receipt = self._receipt(run, plan, files, folder.aside, layout)
            top = receipt["top"]
            record = RunRecord(receipt["runs"][-1]["run"], top, "append", receipt["runs"][-1], "", {})
            self._check(record.receipt, is_first)
            self._kept.in_transaction(
                top, record.run, entries_of(record, self._chosen), marks_of(self._chosen)
            )
            folder.commit()
        self._kept.after(top, record.run)
        changes = [*record.receipt["new"], *record.receipt["widened"], *unplaced(record.receipt)]
        return Grown(
            replace(told_of, changes=() if is_first else tuple(changes)), receipt, record.run, files.rows
        )

    def _written(self, run: TableRun, plan: TableSet, aside: Path) -> TableFiles:
        """Write the rows as part files of their own."""
        form = self._state.form
        form.check_columns(name for table in plan.tables for name in table.arrow_schema().names)
        run.go_on_from(self._keys_before(plan))
        aside.mkdir()
        workers = self._options.worker_count()
        files = TableFiles(aside, plan, form, self._options.collected_bytes(), workers if workers > 1 else 0)
        with files:
            for rows in run.rows():
                files.write(rows)
                rows.clear()
        return files

    def _keys_before(self, plan: TableSet) -> dict[str, int]:
        """Return the largest key of each table so far, where keys are numbers."""
        integers = {table.name for table in plan.tables if table.key_type == "integer"}
        return {name: count for name, count in self._state.rows.items() if name in integers}

    def _receipt(
        self, run: TableRun, plan: TableSet, files: TableFiles, aside: Path, layout: Layout | None
    ) -> dict[str, Any]:
        """Put the part files beside those before, write what stands beside the tables; return the receipt."""
        done, form = run.done(), self._state.form
        new_parts = parts_of(aside / _NEW)
        moved = _moved(aside / _NEW, aside)
        written = Written(files.rows, files.values, files.names, {})
        own = receipt_of(
            done, plan, written, self._options, self._clock, form.name, str(self._state.path), layout, form
        )
        growth = run.growth
        about = {
            "token": self._kept.token,
            "full_names": [each.entry.source for each in self._chosen],
            "keys_before": self._keys_before(plan),
            "new": [] if growth is None else list(growth.new),
            "widened": [] if growth is None else list(growth.widened),
        }
        parts = {moved[name]: digest for name, digest in new_parts.items()}
        receipt = grown_receipt(self._state.receipt, own.to_dict(), done.top, about, parts)
        _write(aside / RECEIPT_FILE, spread_json(receipt) + "\n")
        _write(aside / LAYOUT_FILE, run.layout_text())
        _write(aside / LOAD_SCRIPT, _script(plan, receipt, form))
        if done.log.first:
            _append_rejects(aside, done.log.every())
        return receipt

    def _check(self, receipt: Mapping[str, Any], is_first: bool) -> None:
        for each in self._chosen:
            if not still_is(each):
                said = "the file changed while it was read; nothing was added, the next run takes it"
                raise SourceError(f"{each.source.name}: {said}")
        changes = unplaced(receipt)
        if self._on_change == "stop" and not is_first and changes:
            listed = "".join(f"\n  {each}" for each in changes[:20])
            raise DataError(
                f"the structure has changed, and nothing was added:{listed}",
                Place("the whole run"),
                Code.NO_COLUMN,
            )


def _link_all(folder: Path, aside: Path) -> None:
    """Let all files of a folder stand in another one too: as links, or else as copies."""
    for path in sorted(folder.rglob("*")):
        name = path.relative_to(folder)
        if path.is_dir():
            (aside / name).mkdir(exist_ok=True)
        elif name.as_posix() not in (RECEIPT_FILE, LAYOUT_FILE, LOAD_SCRIPT):
            try:
                os.link(path, aside / name)
            except OSError:
                shutil.copy2(path, aside / name)


def _moved(new: Path, aside: Path) -> dict[str, str]:
    """Put part files behind those that are there; return the name of each, by the one it had."""
    names: dict[str, str] = {}
    counts: dict[Path, int] = {}
    for path in sorted(each for each in new.rglob("part-*") if each.is_file()):
        name = path.relative_to(new)
        place = aside / name.parent
        place.mkdir(parents=True, exist_ok=True)
        if place not in counts:
            counts[place] = sum(each.name.startswith("part-") for each in place.iterdir())
        counts[place] += 1
        ending = path.name.partition(".")[2]
        target = place / f"part-{counts[place]:05}.{ending}"
        os.rename(path, target)
        names[name.as_posix()] = target.relative_to(aside).as_posix()
    shutil.rmtree(new)
    return names


def _append_rejects(aside: Path, rejects: Any) -> None:
    path = aside / REJECTS_FILE
    before = path.read_bytes() if path.exists() else b""
    path.unlink(missing_ok=True)
    lines = "".join(json.dumps(each, ensure_ascii=False) + "\n" for each in rejects)
    path.write_bytes(before + lines.encode("utf-8", "surrogateescape"))


def _script(plan: TableSet, receipt: Mapping[str, Any], form: FileForm) -> str:
    from tessaron.sinks.ddl.create_tables import CreateTables
    from tessaron.sinks.ddl.known_dialects import dialect_named
    from tessaron.sinks.ddl.load_script import load_script

    names = {each["name"]: each["file"] for each in receipt["tables"]}
    return load_script(CreateTables(dialect_named("postgresql"), plan.tables), names, form)


def _write(path: Path, text: str) -> None:
    try:
        path.write_text(text, "utf-8")
    except OSError as error:
        raise TargetError(f"the target cannot be written: {error.strerror}") from error
