"""Keeping a target up with its sources: what is new is loaded, once, whatever happens meanwhile."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from contextlib import ExitStack
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any, Unpack

from tessaron.core.base.errors import (
    TargetError,
)
from tessaron.engine.run_options import RunOptions
from tessaron.engine.run_progress import NoProgress, Progress
from tessaron.repeat.keeping import Changed, Keeping, KeptUp, told_of_deliveries
from tessaron.repeat.kept_feed import KeptFeed
from tessaron.repeat.ledgers.database_urls import is_same_database, lock_files
from tessaron.repeat.ledgers.deliveries import Deliveries, Delivery, sorted_deliveries
from tessaron.repeat.ledgers.ledger import Entry
from tessaron.repeat.ledgers.ledger_places import KeptLedger, LedgerBeside, LedgerInTarget
from tessaron.repeat.ledgers.marked_sources import named_inputs
from tessaron.repeat.ledgers.run_lock import RunLock
from tessaron.repeat.part_by_part import PartByPart
from tessaron.repeat.run_history import unplaced
from tessaron.sinks.database.load_target import OpenTarget
from tessaron.sinks.database.open_database import OpenDatabase
from tessaron.sinks.database.run_records import RunRecord
from tessaron.sinks.load_modes import LoadMode
from tessaron.sources.database.engines import engine_of, told_by
from tessaron.sources.inputs import ByteInput
from tessaron.sources.resolving import Source
from tessaron.write.load_place import LoadPlace, OnChange

if TYPE_CHECKING:
    from tessaron.decide.layout_file import Layout
    from tessaron.write.loading import Loaded


def keep_up(
    source: Source,
    to: str,
    *,
    ledger: str | Path,
    mode: LoadMode = "append",
    changed: Changed = "reject",
    on_change: OnChange = "note",
    again: bool = False,
    wait: float = 600.0,
    schema: str | None = None,
    runs_schema: str | None = None,
    password: str | None = None,
    progress: Progress | None = None,
    layout: Layout | None = None,
    **options: Unpack[RunOptions],
) -> KeptUp:
    """Load what of `source` is not in the target yet, and write down what that was.

    A database has both in one transaction; of lake tables, which have none, a run that breaks off is taken
    back by the next one.

    Args:
        source: Files, folders, patterns, archives or stores; a feed with a mark; a database with one.
        to: The database, or the catalog of lake tables, as in `load`.
        ledger: The ledger: a file of SQLite, or the URL of a database; of lake tables, a file.
        mode: `append`, or `merge` for records that come again.
        changed: What becomes of sources that were loaded and are others now; see `Keeping`.
        on_change: What becomes of a structure that has changed; see `Keeping`.
        again: Whether sources that are loaded are taken again, and merged.
        wait: Seconds to wait for another run.
        schema: As in `load`.
        runs_schema: As in `load`.
        password: As in `load`.
        progress: Is told how far the run is.
        layout: The layout of the first run; later ones go on with that of the run before them, unless another
            one is given.
        **options: As in `load`.

    Raises:
        SourceError: When a source cannot be read, or changes meanwhile.
        DataError: When it is neither JSON nor XML; with `stop`, when its structure has changed.
        TargetError: When the database does not take something, or another run does not end.
        UsageError: When an argument cannot be right.
    """
    keeping = Keeping(str(ledger), changed, on_change, again, wait)
    place = LoadPlace(to, mode, schema, runs_schema, False, False, password)
    return kept_up(source, place, keeping, options, layout, progress or NoProgress())


def kept_up(
    source: Source,
    place: LoadPlace,
    keeping: Keeping,
    options: RunOptions,
    layout: Layout | None,
    told: Progress,
) -> KeptUp:
    """Do what `keep_up` says."""
    keeping.check(place)
    place.check()
    place = replace(place, grows=keeping.on_change == "extend" or keeping.again, into_existing=True)
    with ExitStack() as stack:
        for path in lock_files(keeping.url(), place.to):
            stack.enter_context(RunLock(path, told.say, keeping.wait))
        return KeepingRun(source, place, keeping, options, layout, told).all()


class _NothingNewError(Exception):
    """Nothing has come behind the marks: there is nothing that a run would have to be recorded for."""


def _has_nothing(record: RunRecord, chosen: Sequence[Delivery], kept: KeptLedger) -> bool:
    """Say whether nothing was read of sources with marks, and these stand where they stood."""
    marks = marks_of(chosen)
    is_read = record.receipt["records"] or record.receipt["rejected"]
    return (
        not is_read
        and len(marks) == len(chosen)
        and all(kept.ledger.mark(name) == mark for name, mark in marks.items())
    )


class KeepingRun(PartByPart[KeptUp]):
    """Keeps a target up, in one run or more."""

    def __init__(
        self, source: Source, place: LoadPlace, keeping: Keeping, options: RunOptions, given: Layout | None,
        told: Progress,
    ):  # fmt: skip
        super().__init__(keeping, told)
        self._source, self._place, self._options, self._given = source, place, options, given
        self._changes: tuple[str, ...] = ()
        self._unread: dict[str, str] = {}

    def note(self, entry: Entry) -> None:
        """Write into the ledger what it is to say of a source that is put aside."""
        with ExitStack() as stack:
            opened = self._opened(stack)
            self._ledger(opened, self._feed(opened), stack).note([entry])
            opened.commit()

    def result(self, kept: KeptUp) -> KeptUp:
        """Return the same."""
        return kept

    def _opened(self, stack: ExitStack) -> OpenTarget:
        opened = stack.enter_context(self._place.opened(self._told.say, self._keeping.wait))
        opened.begin_alone()
        return opened

    def once(self, most: int | None = None) -> KeptUp:
        """Load what is new, or at most so many of the sources that are, in one transaction."""
        with ExitStack() as stack:
            return self._once(self._opened(stack), stack, most)

    def _once(self, opened: OpenTarget, stack: ExitStack, most: int | None) -> KeptUp:
        self._changes, self._unread = (), {}
        feed = self._feed(opened)
        kept = self._ledger(opened, feed, stack)
        mark_of = (lambda _: None) if self._keeping.again else kept.ledger.mark
        named = named_inputs(self._source, mark_of, self._place.mode == "merge")
        found = self._found = sorted_deliveries(named, kept.ledger, self._keeping.settle)
        kept.note([*found.same, *found.touched])
        wanted = list(found.new)
        wanted += found.changed if self._keeping.changed == "reload" else []
        if self._keeping.again:
            wanted += [each for each in found.known if each.entry.state == "loaded"]
        taken = self.choose(wanted, most)
        if not taken:
            opened.commit()
            return self._result(found, (), 0)
        try:
            loaded = self._load(opened, feed, kept, taken)
        except _NothingNewError:
            self.end()
            return self._result(found, (), 0)
        self.end()
        return self._result(found, (loaded,), len(taken))

    def _feed(self, opened: OpenTarget) -> KeptFeed:
        return KeptFeed.of(opened, self._options.get("name"), self._given)

    def _ledger(self, opened: OpenTarget, feed: KeptFeed, stack: ExitStack) -> KeptLedger:
        url = self._keeping.url()
        if isinstance(opened, OpenDatabase) and is_same_database(url, self._place.to):
            return LedgerInTarget(opened.connection, opened.runs_schema, feed.top)
        engine, name = engine_of(url, must_exist=False)
        stack.enter_context(told_by(engine, name, TargetError))
        connection = stack.enter_context(engine.connect())

        def run_of(token: str) -> tuple[int, str]:
            return opened.past_runs.with_token(token)

        return LedgerBeside(connection, opened.name, feed.top, run_of)

    def _load(
        self, opened: OpenTarget, feed: KeptFeed, kept: KeptLedger, chosen: Sequence[Delivery]
    ) -> Loaded:
        # Where nothing is new none of it is needed.
        from tessaron.engine.options import Options
        from tessaron.write.books.receipt_making import Clock
        from tessaron.write.loading import LoadWork, load_inputs

        clock = Clock()
        layout = feed.layout()
        is_first, grows = feed.is_new, self._keeping.on_change == "extend"
        options = Options.of(self._options)
        if not is_first:
            # What the first run was told of the tables its layout says now.
            options = options.for_layout()
        elif layout is not None:
            options = replace(options, name=None)
        # A ledger in the target has them itself.
        full_names = {"full_names": [each.entry.source for each in chosen]} if kept.token else {}
        kept.begin([each.entry for each in chosen])
        if self._keeping.again and layout is not None and feed.last is not None:
            self._told.say(_told_again(chosen, layout, feed.last))

        def also(record: RunRecord) -> None:
            if not is_first and _has_nothing(record, chosen, kept):
                raise _NothingNewError
            self._keeping.check_run(chosen, record.receipt, is_first, "loaded")
            entries = entries_of(record, chosen)
            self._unread = {each.source: each.said for each in entries if each.state == "aside"}
            kept.in_transaction(record.top, record.run, entries, marks_of(chosen))

        work = LoadWork(
            [each.source for each in chosen], options, layout,
            left_out_before=None if is_first or grows else feed.left_out(),
            grows=grows and not is_first, also=also, token=kept.token,
            about={**feed.about(), **full_names},
        )  # fmt: skip
        with self._place.target_in(opened) as target:
            loaded = load_inputs(work, target, self._place, self._told, clock)
        kept.after(loaded.top, loaded.run)
        if not is_first:
            self._changes = (*loaded.new, *loaded.widened, *unplaced(loaded.receipt.to_dict()))
        return loaded

    def _result(self, found: Deliveries, loads: tuple[Loaded, ...], count: int) -> KeptUp:
        left = found.changed if self._keeping.changed == "reject" else []
        file = self._layout_file(loads)
        told = told_of_deliveries(found, count - len(self._unread), left)
        return replace(told, loads=loads, put_aside=self._unread, changes=self._changes, layout_file=file)

    def _layout_file(self, loads: tuple[Loaded, ...]) -> str | None:
        """Write the layout's new version beside the file it was given in, where it has grown."""
        grown = [each for each in loads if each.new or each.widened]
        if self._given is None or not grown:
            return None
        before = Path(self._given.source)
        if not before.is_file():
            return None
        stem = before.name.removesuffix(".layout.toml").removesuffix(".toml")
        number = 2
        while (made := before.with_name(f"{stem}.{number}.layout.toml")).exists():
            number += 1
        from tessaron.decide.layout_file import Layout

        Layout(grown[-1].layout, str(made)).write(made)
        return str(made)


def _told_again(chosen: Sequence[Delivery], layout: Layout, last: RunRecord) -> str:
    """Return what taking sources again will change, in words."""
    from tessaron.decide.layout_file import Layout

    before = Layout(last.layout, f"layout of run {last.run}")
    old, new = ({f"{t}.{c}" for t in each.tables for c in each.columns(t)} for each in (before, layout))
    sources = "1 source is" if len(chosen) == 1 else f"{len(chosen):,} sources are"
    added, gone = sorted(new - old), sorted(old - new)
    parts = [f"{sources} taken again, and merged"]
    parts += [f"columns that are new: {', '.join(added)}"] * bool(added)
    parts += [f"columns that are null from now on: {', '.join(gone)}"] * bool(gone)
    return "; ".join(parts if len(parts) > 1 else [*parts, "the layout has the columns it had"])


def entries_of(record: RunRecord, chosen: Sequence[Delivery]) -> list[Entry]:
    """Return what the ledger is to say of what was loaded."""
    read = {each["name"]: each for each in record.receipt["sources"]}
    return [_entry_of(each, record.run, read.get(each.source.name, {})) for each in chosen]


def _entry_of(delivery: Delivery, run: int, read: Mapping[str, Any]) -> Entry:
    records, rejected = read.get("records", 0), read.get("rejected", 0)
    entry = replace(delivery.entry, run=run, at="", records=records, rejected=rejected)
    if rejected and not records:
        # Once it is mended it is new.
        return replace(entry, state="aside", said="nothing of it could be read; see the rejects")
    return replace(entry, state="loaded", said="")


def marks_of(chosen: Sequence[Delivery]) -> dict[str, str | int]:
    """Return how far the sources came that go on from there."""
    marks = {
        each.entry.source: each.source.mark()
        for each in chosen
        if isinstance(each.source, ByteInput) and each.source.mark is not None
    }
    return {name: mark for name, mark in marks.items() if mark is not None}
