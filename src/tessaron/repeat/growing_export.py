"""A folder of tables that grows by part files: each run adds its own, whole or not at all."""

from __future__ import annotations

import json
import os
from collections import Counter
from collections.abc import Mapping, Sequence
from contextlib import ExitStack
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any, Unpack, cast

from tessaron.core.base.errors import TargetError
from tessaron.core.layout.table_set import TableSet
from tessaron.decide.layout_file import Layout
from tessaron.engine.options import Options
from tessaron.engine.run_progress import NoProgress, Progress
from tessaron.repeat.growing_folder import (
    GrowingFolder,
    append_rejects,
    link_all,
    load_script_of,
    move_parts,
    write_text,
)
from tessaron.repeat.grown_receipts import grown_receipt, parts_of
from tessaron.repeat.keeping import Keeping, KeptUp, told_of_deliveries
from tessaron.repeat.keeping_up import entries_of, marks_of
from tessaron.repeat.ledgers.database_urls import lock_files
from tessaron.repeat.ledgers.deliveries import Delivery, sorted_deliveries
from tessaron.repeat.ledgers.ledger import Entry
from tessaron.repeat.ledgers.ledger_places import LedgerBeside
from tessaron.repeat.ledgers.marked_sources import named_inputs
from tessaron.repeat.ledgers.run_lock import RunLock, lock_of
from tessaron.repeat.part_by_part import PartByPart
from tessaron.repeat.run_history import unplaced
from tessaron.sinks.database.run_records import RunRecord
from tessaron.sinks.receipt_text import spread_json
from tessaron.sinks.table_files import TableFiles
from tessaron.sinks.target_folder import LAYOUT_FILE, LOAD_SCRIPT, RECEIPT_FILE, TargetFolder
from tessaron.sources.database.engines import engine_of, told_by
from tessaron.sources.forms.file_form import FormatName
from tessaron.sources.resolving import Source
from tessaron.write.books.receipt_making import Clock, Written, receipt_of
from tessaron.write.export import ExportOptions, split_options
from tessaron.write.load_place import OnChange
from tessaron.write.table_run import TableRun, start_run

_NEW = ".new"


@dataclass(frozen=True, slots=True)
class Grown:
    """What was done to a folder.

    Attributes:
        kept: Which sources were new, and what has changed in the structure.
        receipt: The receipt of the folder, all runs together; None where nothing was new in an empty folder.
        runs: What the receipt tells of the runs that were added; none where nothing was new, several where
            sources were taken one by one, as one of them could not be.
        rows: The rows that were added to each table.
    """

    kept: KeptUp
    receipt: Mapping[str, Any] | None
    runs: tuple[Mapping[str, Any], ...] = ()
    rows: Mapping[str, int] = field(default_factory=dict)

    @property
    def run(self) -> int:
        """The number of the last run that was added; 0 where nothing was new."""
        return int(self.runs[-1]["run"]) if self.runs else 0

    @property
    def records(self) -> int:
        """The records that were added."""
        return sum(each["records"] for each in self.runs)

    @property
    def passed(self) -> bool:
        """Whether nothing was rejected or put aside, and no source has changed."""
        return self.kept.passed and not any(each["rejected"] or each["rejected_values"] for each in self.runs)

    def then(self, other: Grown) -> Grown:
        """Return what was done by this and then by another, which found what this one had left."""
        rows = Counter(self.rows)
        rows.update(other.rows)
        return Grown(
            self.kept.then(other.kept), other.receipt or self.receipt, (*self.runs, *other.runs), dict(rows)
        )

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
    keeping = Keeping(str(ledger), on_change=on_change, wait=wait)
    given: GrowingOptions = {**options, "format": format, "for_spreadsheets": for_spreadsheets}
    return grown(source, target, keeping, given, layout, progress or NoProgress())


class GrowingOptions(ExportOptions, total=False):
    """How a folder that grows is written: its `format`, and `for_spreadsheets`, as in `export`, besides."""

    format: FormatName | None
    for_spreadsheets: bool


def grown(
    source: Source,
    target: str | Path,
    keeping: Keeping,
    options: GrowingOptions,
    layout: Layout | None,
    told: Progress,
) -> Grown:
    """Do what `grow` says."""
    keeping.check_change()
    folder = Path(os.path.abspath(target))
    with ExitStack() as stack:
        for path in sorted({lock_of(folder), *lock_files(keeping.url())}):
            stack.enter_context(RunLock(path, told.say, keeping.wait))
        return GrowingRun(source, folder, keeping, options, layout, told).all()


class GrowingRun(PartByPart[Grown]):
    """Lets a folder grow, in one run or more."""

    def __init__(
        self, source: Source, folder: Path, keeping: Keeping, options: GrowingOptions, given: Layout | None,
        told: Progress,
    ):  # fmt: skip
        of_form = {"format", "for_spreadsheets"}
        own = {name: value for name, value in options.items() if name not in of_form}
        self._format = options.get("format")
        self._said, rest = split_options(cast("ExportOptions", own))
        self._said |= {"for_spreadsheets": True} if options.get("for_spreadsheets") else {}
        super().__init__(keeping, told)
        self._source, self._folder, self._given = source, folder, given
        self._options = Options.of(rest)

    def note(self, entry: Entry) -> None:
        """Write into the ledger what it is to say of a source that is put aside."""
        with ExitStack() as stack:
            self._ledger(self._state(), stack).note([entry])

    def result(self, kept: KeptUp) -> Grown:
        """Return what was done where nothing was added."""
        return Grown(kept, self._state().receipt)

    def _state(self) -> GrowingFolder:
        return GrowingFolder.of(self._folder, self._format, self._said)

    def once(self, most: int | None = None) -> Grown:
        """Add what is new, or at most so many of the sources that are, whole or not at all."""
        state = self._state()
        with ExitStack() as stack:
            kept = self._ledger(state, stack)
            named = named_inputs(self._source, kept.ledger.mark, False)
            found = self._found = sorted_deliveries(named, kept.ledger, self._keeping.settle)
            kept.note([*found.same, *found.touched])
            taken = self.choose(found.new, most)
            if not taken:
                return Grown(told_of_deliveries(found, 0, found.changed), state.receipt)
            kept.begin([each.entry for each in taken])
            work = _Growing(state, taken, self._options, self._keeping, self._given, self._told, kept)
            made = work.run(told_of_deliveries(found, len(taken), found.changed))
            self.end()
            return made

    def _ledger(self, state: GrowingFolder, stack: ExitStack) -> LedgerBeside:
        engine, name = engine_of(self._keeping.url(), must_exist=False)
        stack.enter_context(told_by(engine, name, TargetError))
        connection = stack.enter_context(engine.connect())
        return LedgerBeside(connection, str(self._folder), state.top, state.run_of)


class _Growing:
    """One run that adds to a folder."""

    def __init__(
        self, state: GrowingFolder, chosen: Sequence[Delivery], options: Options, keeping: Keeping,
        given: Layout | None, told: Progress, kept: LedgerBeside,
    ):  # fmt: skip
        self._state, self._chosen, self._options, self._keeping = state, chosen, options, keeping
        self._given, self._told, self._kept, self._clock = given, told, kept, Clock()

    def run(self, told_of: KeptUp) -> Grown:
        """Add what is new."""
        state, is_first = self._state, self._state.receipt is None
        layout = self._given if is_first else Layout.read(state.path / LAYOUT_FILE)
        options = self._options if is_first else self._options.for_layout()
        grows = self._keeping.on_change == "extend" and not is_first
        with TargetFolder(state.path, replace=True) as folder, ExitStack() as stack:
            if not is_first:
                link_all(state.path, folder.aside)
            run = start_run(
                [each.source for each in self._chosen], options, self._told, stack, layout,
                None if is_first or grows else state.left_out(),
                (lambda before, after: True) if grows else None,
            )  # fmt: skip
            plan = run.read()
            files = self._written(run, plan, folder.aside / _NEW)
            receipt = self._receipt(run, plan, files, folder.aside, layout)
            own = receipt["runs"][-1]
            record = RunRecord(own["run"], receipt["top"], "append", own, "", {})
            self._keeping.check_run(self._chosen, own, is_first, "added")
            entries = entries_of(record, self._chosen)
            self._kept.in_transaction(record.top, record.run, entries, marks_of(self._chosen))
            folder.commit()
        self._kept.after(record.top, record.run)
        unread = {each.source: each.said for each in entries if each.state == "aside"}
        changes = () if is_first else (*own["new"], *own["widened"], *unplaced(own))
        told_of = replace(told_of, new=told_of.new - len(unread), put_aside=unread, changes=changes)
        if own["layout_before"]:
            told_of = replace(told_of, layout_file=str(state.path / LAYOUT_FILE))
        return Grown(told_of, receipt, (own,), files.rows)

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
        moved = move_parts(aside / _NEW, aside)
        written = Written(files.rows, files.values, files.names, {})
        own = receipt_of(
            done, plan, written, self._options, self._clock, form.name, str(self._state.path), layout, form
        )
        growth, number = (
            run.growth,
            1 if self._state.receipt is None else len(self._state.receipt["runs"]) + 1,
        )
        has_grown = growth is not None and bool(growth.new or growth.widened)
        about = {
            "token": self._kept.token,
            "full_names": [each.entry.source for each in self._chosen],
            "keys_before": self._keys_before(plan),
            "new": [] if growth is None else list(growth.new),
            "widened": [] if growth is None else list(growth.widened),
            "layout_before": f"layout.before-run-{number}.toml" if has_grown else "",
        }
        parts = {moved[name]: digest for name, digest in new_parts.items()}
        receipt = grown_receipt(self._state.receipt, own.to_dict(), done.top, about, parts)
        write_text(aside / RECEIPT_FILE, spread_json(receipt) + "\n")
        write_text(aside / LAYOUT_FILE, run.layout_text())
        if layout is not None and about["layout_before"]:
            write_text(aside / str(about["layout_before"]), layout.text)
        write_text(aside / LOAD_SCRIPT, load_script_of(plan, receipt, form))
        if done.log.first:
            append_rejects(aside, done.log.every())
        return receipt
