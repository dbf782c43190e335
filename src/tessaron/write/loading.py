"""Loading: the tables of a source, or of an export, into a database, whole or not at all."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import ExitStack
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any, Unpack

from tessaron.core.base.errors import TargetError, UsageError
from tessaron.core.base.parsed_values import Parsed
from tessaron.core.base.shown_forms import Shown
from tessaron.core.layout.table_set import TableSet
from tessaron.engine.options import Options
from tessaron.engine.run_options import RunOptions
from tessaron.engine.run_progress import NoProgress, Progress
from tessaron.sinks.database.database_target import DatabaseTarget
from tessaron.sinks.database.load_target import LoadTarget, RowsThere
from tessaron.sinks.database.merging import state_table
from tessaron.sinks.database.run_records import RunRecord
from tessaron.sinks.ddl.create_tables import required_columns
from tessaron.sinks.load_modes import LoadMode
from tessaron.sinks.receipt_text import plain_data, spread_json
from tessaron.sources.inputs import ByteInput, Input
from tessaron.sources.resolving import Source, resolve_inputs
from tessaron.write.books.receipt import Receipt, read_rejects
from tessaron.write.books.receipt_making import Clock, Written, receipt_of
from tessaron.write.exported_rows import ExportedRows, is_export
from tessaron.write.load_place import LoadPlace
from tessaron.write.record_merge import RecordMerge
from tessaron.write.table_run import MakesRun, start_run

if TYPE_CHECKING:
    from tessaron.decide.layout_file import Layout
    from tessaron.engine.parts.clusters import Cluster


@dataclass(frozen=True, slots=True)
class TableLoaded:
    """One table in the database: its rows before and after, and those that were put in and taken out."""

    name: str
    before: int
    written: int
    removed: int
    after: int


@dataclass(frozen=True, slots=True)
class Loaded(Shown):
    """What a load did.

    Attributes:
        receipt: The receipt, which the database has, too.
        mode: What it did with tables that were there.
        run: Its number in the table `tessaron_runs`.
        tables: The tables, parents before children.
        records: Where records were merged: how many were `new`, `changed`, `unchanged` and `deleted`.
        question: A query that joins tables by their keys.
        answer: How many rows it returns.
        layout: The layout, as a layout file.
        top: The records' table.
        new: Columns and tables that were added to those that were there, each with its path.
        widened: Columns that have a wider type now, each with that before and now.
    """

    receipt: Receipt
    mode: str
    run: int
    tables: tuple[TableLoaded, ...]
    records: Mapping[str, int] = field(default_factory=dict)
    question: str = ""
    answer: int = 0
    new: tuple[str, ...] = ()
    widened: tuple[str, ...] = ()
    layout: str = ""
    top: str = ""

    @property
    def passed(self) -> bool:
        """Whether nothing was rejected and every key is one."""
        return self.receipt.passed

    def to_json(self) -> str:
        """Return all of it as JSON."""
        data: dict[str, Parsed] = {**plain_data(self), "receipt": self.receipt.to_dict()}
        return spread_json(data) + "\n"


@dataclass(frozen=True, slots=True)
class LoadWork:
    """What is loaded, and how.

    Attributes:
        inputs: The sources.
        options: How they are read.
        layout: Which tables to make; None to draft them.
        left_out_before: As in `LayingPlan`.
        grows: Whether the layout gets a place for all that is read.
        also: Does what else belongs to the transaction, given the run as it is recorded.
        token: By which a ledger elsewhere knows the run.
        about: What else the receipt that is recorded says.
        cluster: Where the inputs are read, and rows are copied, in parts; None for here.
    """

    inputs: list[Input]
    options: Options
    layout: Layout | None = None
    left_out_before: frozenset[str] | None = None
    grows: bool = False
    also: Callable[[RunRecord], None] = lambda _: None
    token: str = ""
    about: Mapping[str, Any] = field(default_factory=dict)
    cluster: Cluster | str | None = None


def load(
    source: Source,
    to: str,
    *,
    mode: LoadMode = "create",
    schema: str | None = None,
    runs_schema: str | None = None,
    into_existing: bool = False,
    complete: bool = False,
    as_before: bool = False,
    password: str | None = None,
    progress: Progress | None = None,
    layout: Layout | None = None,
    cluster: Cluster | str | None = None,
    **options: Unpack[RunOptions],
) -> Loaded:
    """Load the tables that the records of `source` make into a database, in one transaction.

    Args:
        source: As in `export`; or the folder of an export, whose files are loaded.
        to: The database, as SQLAlchemy spells it: `sqlite:///office.db`, `postgresql://user@host/name`.
        mode: `create` makes the tables, and refuses where one is there; `append` adds rows, with keys that go
            on; `replace` empties tables that are there; `merge` replaces records that come again, by their
            natural or digest key, with all their rows, and leaves those alone that are the same.
        as_before: Whether to load by the layout of the last run into these tables.
        complete: With `merge`: whether the source is all there is, so that records that are not in it go.
        schema: The schema that the tables stand in; made if need be.
        runs_schema: The schema of the table `tessaron_runs`; else that of the tables.
        into_existing: Whether tables that are there may differ from those that would be made, as far as they
            take the rows.
        password: Where the password stands: `env:NAME`, `file:PATH`, `keyring:SERVICE/USER`.
        progress: Is told how far the run is.
        layout: Which tables to make; else they are drafted from the data.
        cluster: Where the source is read, and rows are copied into PostgreSQL, in parts; see `Cluster`.
        **options: As in `shred`.

    Raises:
        SourceError: When a source cannot be read.
        DataError: When it is neither JSON nor XML.
        TargetError: When the database does not take something; it is as before then.
        UsageError: When an argument cannot be right.
    """
    place = LoadPlace(to, mode, schema, runs_schema, into_existing, complete, password)
    clock, told = Clock(), progress or NoProgress()
    settled = Options.of(options)
    if cluster is not None:
        _check_for_cluster(place, source)
    with place.target(told.say) as target:
        if isinstance(source, (str, Path)) and is_export(source):
            if options or layout is not None or as_before:
                said = "is an export, whose tables are loaded as they are; leave out what is said of them"
                raise UsageError(f"{source}: {said}")
            return _load_export(Path(source), target, place, clock)
        if as_before:
            if layout is not None:
                raise UsageError("expected a layout, or as_before, got both")
            layout = last_layout(target, settled.name)
            settled = replace(settled, name=None)
        work = LoadWork(resolve_inputs(source), settled, layout, cluster=cluster)
        loaded = load_inputs(work, target, place, told, clock)
    finish_inputs(work.inputs)
    return loaded


def finish_inputs(inputs: Iterable[Input]) -> None:
    """Tell sources that all that was made of them stands where it belongs."""
    for entry in inputs:
        if isinstance(entry, ByteInput) and entry.finished is not None:
            entry.finished()


def load_inputs(work: LoadWork, target: LoadTarget, place: LoadPlace, told: Progress, clock: Clock) -> Loaded:
    """Load the tables of inputs into a target that is open; see `load`."""
    settled, is_merge = work.options, place.mode == "merge"
    with ExitStack() as stack:
        widens = target.can_widen if work.grows else None
        make = None if work.cluster is None else _made_on(work.cluster, settled, stack)
        run = start_run(work.inputs, settled, told, stack, work.layout, work.left_out_before, widens, make)
        plan = run.read()
        required = frozenset() if work.layout is None else required_columns(work.layout.part)
        states = [state_table(run.top_table())] if is_merge else []
        target.begin([*plan.tables, *states], required, settled.collected_bytes())
        merge = None
        if is_merge and isinstance(target, DatabaseTarget):
            merge = RecordMerge(target, plan, run.top_table(), run.natural_key())
            run.sift(merge.sieve)
        keys_before = target.last_keys()
        run.go_on_from(keys_before)
        if run.is_elsewhere and isinstance(target, DatabaseTarget):
            from tessaron.write.parted_loading import copy_parts

            copy_parts(run, plan, target, place, required, settled.collected_bytes(), stack)
        else:
            for rows in run.rows():
                target.write(rows) if merge is None else merge.write(rows)
                rows.clear()
        done = run.done()
        records = {} if merge is None else merge.end((done.key_check, *done.key_checks), place.complete)
        there = target.finish()
        written = Written(target.collected.rows, target.collected.values, kept_back=run.kept_back)
        receipt = receipt_of(done, plan, written, settled, clock, target.kind, target.name, work.layout)
        growth = run.growth
        ready = _Ready(
            plan, there, receipt, run.layout_text(), done.top, done.log.every(), records,
            () if growth is None else growth.new, () if growth is None else growth.widened,
            keys_before,
        )  # fmt: skip
        return _recorded(target, ready, place.mode, work)


def _check_for_cluster(place: LoadPlace, source: Source) -> None:
    """Check that a cluster can load what is asked for.

    Raises:
        UsageError: When it cannot, with what to do instead.
    """
    otherwise = "export on the cluster, then load what it has written without one"
    if isinstance(source, (str, Path)) and is_export(source):
        raise UsageError(f"{source}: is an export, which one machine loads; leave out the cluster")
    if not place.to.startswith("postgresql"):
        raise UsageError(f"a cluster copies into PostgreSQL only; {otherwise}")
    if place.mode == "merge":
        raise UsageError(f"to merge, records are compared in their order; {otherwise}")


def _made_on(cluster: Cluster | str, options: Options, stack: ExitStack) -> MakesRun:
    from tessaron.write.parted_run import run_on

    return run_on(cluster, options, stack)


def last_layout(target: LoadTarget, name: str | None) -> Layout:
    """Return the layout of the last run that loaded records into the table of this name, or the only one.

    Raises:
        UsageError: When there is none, or it is not clear which.
    """
    from tessaron.decide.layout_file import Layout

    tops = target.loaded_before()
    if name is None and len(tops) > 1:
        raise UsageError(f"{target.name}: say which of these to load as before: --name {', '.join(tops)}")
    wanted = name if name is not None else next(iter(tops), None)
    if wanted not in tops:
        there = f"; there are {', '.join(tops)}" if tops else ""
        raise UsageError(f"{target.name}: no run has loaded {wanted or 'anything'}{there}")
    return Layout(tops[wanted], f"layout of the last run of {wanted}")


def _load_export(folder: Path, target: LoadTarget, place: LoadPlace, clock: Clock) -> Loaded:
    """Load the files of an export."""
    exported, is_merge = ExportedRows(folder), place.mode == "merge"
    states = [state_table(exported.top_table())] if is_merge else []
    target.begin([*exported.tables.tables, *states], exported.required, exported.most_bytes)
    records = {}
    if is_merge and isinstance(target, DatabaseTarget):
        merge = RecordMerge(target, exported.tables, exported.top_table(), exported.natural_key())
        for rows in exported.sifted(merge.sieve, target.last_keys()):
            merge.write(rows)
        records = merge.end(exported.key_checks(), place.complete)
    else:
        for rows in exported.rows(target.last_keys()):
            target.write(rows)
    there = target.finish()
    receipt = exported.receipt_for(target.kind, target.name, target.collected.rows, clock)
    text, top = exported.layout.text, exported.top
    ready = _Ready(exported.tables, there, receipt, text, top, read_rejects(folder), records)
    return _recorded(target, ready, place.mode)


@dataclass(frozen=True, slots=True)
class _Ready:
    """All that is to be seen, and told, once a load is committed."""

    tables: TableSet
    there: Mapping[str, RowsThere]
    receipt: Receipt
    layout: str
    top: str
    rejects: Iterator[Mapping[str, Any]]
    records: Mapping[str, int]
    new: tuple[str, ...] = ()
    widened: tuple[str, ...] = ()
    keys_before: Mapping[str, int] = field(default_factory=dict)


def _recorded(
    target: LoadTarget,
    ready: _Ready,
    mode: str,
    work: LoadWork | None = None,
) -> Loaded:
    """Check the counts, record the run, let all of it be seen, and ask the database a question."""
    loaded = []
    for table in ready.tables.tables:
        rows = ready.there[table.name]
        put_in = target.collected.rows[table.name]
        removed = target.removed.get(table.name, 0)
        expected = rows.before + put_in - removed
        if rows.after != expected:
            raise TargetError(
                f"{target.name}: {table.name} has {rows.after:,} rows, expected {expected:,}: "
                f"{rows.before:,} were there, {put_in:,} came, {removed:,} went; nothing was loaded"
            )
        loaded.append(TableLoaded(table.name, rows.before, put_in, removed, rows.after))
    run = target.next_number()
    after = {name: rows.after for name, rows in ready.there.items()}
    about, token = ({}, "") if work is None else (work.about, work.token)
    told = {
        **ready.receipt.to_dict(), "merged": dict(ready.records), "new": list(ready.new),
        "widened": list(ready.widened), "keys_before": dict(ready.keys_before), **about,
    }  # fmt: skip
    record = RunRecord(run, ready.top, mode, told, ready.layout, after, token)
    target.commit(record, ready.rejects, (lambda _: None) if work is None else work.also)
    question, answer = target.answer(ready.tables.tables)
    made = Loaded(ready.receipt, mode, run, tuple(loaded), ready.records, question, answer)
    return replace(made, layout=ready.layout, top=ready.top, new=ready.new, widened=ready.widened)
