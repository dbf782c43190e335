"""A run: every chunk of the sources becomes rows, by a layout that is given or that the run drafts itself."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping
from contextlib import ExitStack
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, Any, Protocol

import pyarrow as pa

from tessaron.core.base.errors import Code, DataError, Place, UsageError
from tessaron.core.base.parsed_values import Parsed
from tessaron.core.layout.table_set import Table, TableSet
from tessaron.core.plan.plan import LayingPlan, Plans
from tessaron.core.tables.laid import Laid
from tessaron.core.tables.lay_work import LaidResult, LayWork
from tessaron.core.tables.numbering import RowNumbers, renumber
from tessaron.engine.aside.reject_log import RejectLog
from tessaron.engine.aside.spill import Spill
from tessaron.engine.feeds import Feed, Mapper
from tessaron.engine.options import Options
from tessaron.engine.pool import Pool
from tessaron.engine.reading import SourceReading
from tessaron.engine.run_progress import Progress
from tessaron.sources.inputs import Input
from tessaron.write.across.chunk_placing import ChunkPlacer, ChunkPlacing
from tessaron.write.across.repeats import RepeatedRecords, RowDigests, WatchedRows
from tessaron.write.across.uniqueness import FirstSeen
from tessaron.write.across.watching import DraftedKeyWatch, Watches
from tessaron.write.books.account import Account
from tessaron.write.books.outcome import Outcome
from tessaron.write.books.receipt import ClusterDone, Finding
from tessaron.write.drafted_tables import Drafted, drafted_tables
from tessaron.write.record_sieve import RecordSieve, values_of

if TYPE_CHECKING:
    from tessaron.decide.layout_file import Layout
    from tessaron.decide.layout_growth import GrowingLayout, Growth, Widens


@dataclass
class _Documents(Feed):
    """Takes in the documents around the records, as rows."""

    waiting: list[tuple[str, LaidResult]] = field(default_factory=list)

    def add(self, result: Any, records_before: int, source: str) -> None:
        """Keep the rows of a document until they are asked for."""
        self.waiting.append((source, result))


@dataclass(frozen=True, slots=True)
class Made:
    """What became of a chunk of a source, by which plan."""

    plan: LayingPlan
    result: LaidResult
    source: str = ""
    records_before: int = 0


class TableRun:
    """One run.

    Args:
        inputs: The sources.
        options: How they are read.
        progress: Is told how far the run is.
        stack: Closes what the run opens.
        plans: What it makes tables by; None to draft that from all that is read, which is put aside then.
        text: The layout they come from, as a layout file.
        growing: Instead of plans: the layout that they come from, once it has a place for all that is read.

    Attributes:
        reading: What was read.
        account: What was done.
        sieve: What takes records out that need not be written.
        kept_back: What was in these: rows by table, values by `table.column`.
        is_elsewhere: Whether rows are written where they are made; see `parted_run`.
    """

    is_elsewhere = False

    def __init__(
        self,
        inputs: list[Input],
        options: Options,
        progress: Progress,
        stack: ExitStack,
        plans: Plans | None = None,
        text: str = "",
        growing: GrowingLayout | None = None,
    ):
        self._growing = growing
        self._options, self._progress, self._stack, self._text = options, progress, stack, text
        self._pool = stack.enter_context(Pool(options.worker_count(), [entry.size for entry in inputs]))
        self._is_given = plans is not None
        self._records = self._record_feed(joins=not self._is_given and growing is None)
        self._documents = (_Documents if self._is_given else Feed)(stack.enter_context(Spill()))
        mapper = self._mapper(self._pool)
        self.reading = SourceReading(inputs, options, self._records, self._documents, progress, mapper)
        self.reading.selection = options.selection()
        # With masks the records of rejects are only kept where that is asked for.
        keeps_records = plans is None or not plans.has_masks or options.keep_raw_rejects
        self.reading.intake.log = stack.enter_context(
            RejectLog(options.stop_after, options.stop_at_share, keeps_records=keeps_records)
        )
        self.account = Account({} if plans is None else plans.paths, log=self.reading.intake.log)
        self._numbers = RowNumbers()
        self._last_keys: dict[str, int] = {}
        self._placers: dict[int, ChunkPlacer] = {}
        self.sieve: RecordSieve | None = None
        self.kept_back: Counter[str] = Counter()
        self._drafted: Drafted | None = None
        self._own_watch: DraftedKeyWatch | None = None
        if plans is not None:
            self._take(plans)
            self.reading.selection, self.reading.gathered = plans.records.selection, plans.records.gathered
            self.reading.wants_above = plans.wants_above
            if plans.around is not None:
                self.reading.around = LayWork(plans.around, options.kernel)
        elif growing is not None:
            growing.prepare(self.reading)

    def _record_feed(self, joins: bool) -> Feed:
        """Return what takes records in that are put aside."""
        return Feed(self._stack.enter_context(Spill()), joins=joins)

    def _mapper(self, pool: Pool) -> Mapper:
        """Return what goes over what was put aside."""
        return pool

    def _lay_work(self, plan: LayingPlan) -> LayWork:
        """Return what makes rows by a plan."""
        with_records = plan is self._plans.records and self._wants_records
        return LayWork(plan, self._options.kernel, with_records)

    def _take(self, plans: Plans) -> None:
        self._plans = plans
        self._watches = Watches(plans, self._stack)
        watched = WatchedRows.of(plans)
        seen = [self._stack.enter_context(FirstSeen()) for _ in watched.firsts]
        self._repeats = RepeatedRecords(watched, seen, self.account)

    def read(self) -> TableSet:
        """Return the tables that will be written, parents before children; to draft them, read all."""
        if self._is_given:
            return self._plans.written()
        self.reading.read_all()
        if self._growing is not None:
            return self._grown(self._growing)
        self.reading.settle()
        drafted = self._drafted = drafted_tables(self.reading, self._options)
        self._take(drafted.plans)
        if not drafted.is_flat:
            self._own_watch = DraftedKeyWatch(drafted.top, drafted.key, drafted.possible_keys, self._stack)
        return drafted.plans.written()

    def _grown(self, growing: GrowingLayout) -> TableSet:
        compiled = growing.grow(self.reading)
        self._take(compiled)
        self._text, self.account.paths = growing.growth.layout.text, compiled.paths
        return compiled.written()

    def layout_text(self) -> str:
        """Return the layout as a layout file."""
        return self._text if self._drafted is None else self._drafted.text()

    @property
    def growth(self) -> Growth | None:
        """What the layout has become, where it grows; None where it does not."""
        return None if self._growing is None else self._growing.growth

    def go_on_from(self, last_keys: Mapping[str, int]) -> None:
        """Let keys go on after those that a database has: the largest of each table."""
        self._last_keys = {name: key for name, key in last_keys.items() if key}

    def rows(self) -> Iterator[dict[str, Parsed]]:
        """Yield, chunk by chunk, the rows of the tables."""
        for made in self._made():
            yield self._rows_of(made)
        self._look_back()

    def _rows_of(self, made: Made) -> dict[str, Parsed]:
        """Return the rows of a chunk, numbered; with all that is to be known of them taken in."""
        laid, plan = made.result.laid, made.plan
        are_records = plan is self._plans.records
        if self._drafted is not None:
            check_drafted(laid, self._drafted)
        placer = self._placer(plan)
        placing = ChunkPlacing()
        if are_records:
            laid, placing = self._of_records(laid, made, placer)
        self.account.add(laid, made.source, made.records_before, made.result.places, are_records)
        batches = placer.numbered(laid, placing, self._numbers)
        self._watches.add(batches)
        if self._own_watch is not None:
            self._own_watch.add(batches)
        # So that they go as soon as they are written, and not when the next are made.
        made.result.laid.batches = {}
        if self._options.on_rows is not None:
            self._options.on_rows(batches)
        return batches

    def _placer(self, plan: LayingPlan) -> ChunkPlacer:
        """Return what applies to rows what is decided about them."""
        known = self._placers.get(id(plan))
        if known is None:
            known = self._placers[id(plan)] = ChunkPlacer(plan, self._last_keys)
        return known

    def sift(self, sieve: RecordSieve) -> None:
        """Leave out the records that a sieve takes, and count what is in them."""
        self.sieve = sieve

    def natural_key(self) -> tuple[str, ...]:
        """Return the columns of the records' table that are its natural key; nothing where it has none."""
        if self._drafted is not None:
            return self._drafted.key
        return tuple(self._plans.keys.get(self.top_table().name, ()))

    def top_table(self) -> Table:
        """Return the table of the records.

        Raises:
            UsageError: When it is not written.
        """
        names = [table.name for table in self._plans.records.tables if not table.level]
        for table in self._plans.records.written().tables:
            if table.name in names:
                return table
        raise UsageError('expected a table of the records themselves, with rows = "$"')

    def _sifted(self, laid: Laid) -> Laid:
        assert self.sieve is not None
        unchanged = self.sieve.unchanged(laid)
        if not unchanged.any():
            return laid
        before = values_of(laid.batches)
        left = renumber(laid, self._plans.records, unchanged)
        after = values_of(left.batches)
        self.kept_back.update({name: count - after[name] for name, count in before.items()})
        return left

    def _of_records(self, laid: Laid, made: Made, placer: ChunkPlacer) -> tuple[Laid, ChunkPlacing]:
        """Return the rows of records that go into tables, and what else is decided about them."""
        if self.sieve is not None:
            laid = self._sifted(laid)
        counts_on = self._is_given and not self._plans.multiplies
        placing = ChunkPlacing(made.records_before if counts_on else 0)
        watched = self._repeats.watched
        digests = watched.digests(laid) if watched else None
        if digests is not None:
            placing = self._decided(placing, digests, laid, made)
        left = placer.left(laid, placing)
        if self.sieve is not None:
            self.sieve.keep(left.records[self.sieve.top.name])
        return left, placing

    def _decided(self, placing: ChunkPlacing, digests: RowDigests, laid: Laid, made: Made) -> ChunkPlacing:
        """Decide which records of a chunk repeat others, and which rows are the first of their value."""
        dropped = self._repeats.dropped(digests, laid.record_count, made.source, made.records_before)
        laid.rejected += 0 if dropped is None else int(dropped.sum())
        return replace(placing, dropped=dropped, once=self._repeats.new_once(digests, dropped))

    @property
    def _wants_records(self) -> bool:
        """Whether records may turn out as rejects late, by what stands in their rows."""
        return bool(self._repeats.watched or self.sieve)

    def _made(self) -> Iterator[Made]:
        if not self._is_given:
            yield from self._put_aside()
        elif self._plans.multiplies:
            self.reading.read_all()
            yield from self._waiting_documents()
            yield from self._put_aside()
        else:
            self.reading.work = self._lay_work(self._plans.records)
            for source, result, records_before in self.reading.results():
                yield from self._waiting_documents()
                yield Made(self._plans.records, result, source, records_before)
            yield from self._waiting_documents()

    def _put_aside(self) -> Iterator[Made]:
        """Yield what becomes of all that was put aside; what tables multiply to is announced first."""
        self._records.close()
        self._announce()
        feeds = [(self._documents, self._plans.around), (self._records, self._plans.records)]
        chosen = [(feed, plan) for feed, plan in feeds if plan is not None]
        steps, step = sum(len(feed.spill) for feed, _ in chosen), 0
        for feed, plan in chosen:
            for index, result in enumerate(self._results(feed, plan)):
                # Tapes that were joined have no one source: what is drafted rejects nothing.
                source = feed.sources[index] if not feed.joins else ""
                before = feed.records_before[index] if not feed.joins else 0
                yield Made(plan, result, source, before)
                step += 1
                self._progress.write(min(step, steps), steps)

    def _results(self, feed: Feed, plan: LayingPlan) -> Iterator[LaidResult]:
        return self._pool.map(self._lay_work(plan), feed.spill.read())

    def _announced(self, plan: LayingPlan) -> Iterator[LaidResult]:
        """Yield what becomes of records, to be counted only."""
        return self._results(self._records, plan)

    def _announce(self) -> None:
        """Say how many rows tables multiply to, before they are written."""
        if not self._plans.multiplies:
            return
        counts: dict[str, int] = {}
        for result in self._announced(self._plans.records):
            for name, batch in result.laid.batches.items():
                counts[name] = counts.get(name, 0) + batch.num_rows
        for table in self._plans.records.tables:
            if table.multiply:
                pairs = " × ".join((table.name, *table.multiply))
                self._progress.say(f"{table.name}: {counts.get(table.name, 0):,} rows come out of {pairs}")

    def _waiting_documents(self) -> Iterator[Made]:
        assert isinstance(self._documents, _Documents)
        around = self._plans.around
        # Records may refer to documents of which nothing else is wanted.
        if around is not None:
            for source, result in self._documents.waiting:
                yield Made(around, result, source)
        self._documents.waiting.clear()

    def _look_back(self) -> None:
        """Check what only the whole run shows."""
        for name, outcome, repeats in self._watches.repeats():
            reason = f"{repeats:,} values are there more than once"
            if outcome == "stop":
                raise DataError(
                    f"{name}: {reason}; the layout says to stop", Place("the whole run"), Code.UNIQUE
                )
            self.account.note(Finding(Code.UNIQUE, name, "", "note", repeats, reason))

    def cluster_done(self) -> ClusterDone | None:
        """Return what a cluster did for the run; None where there was none."""
        return None

    def done(self) -> Outcome:
        """Return what was done, once all rows were taken."""
        reading, account, drafted, own = self.reading, self.account, self._drafted, self._own_watch
        reading.intake.log.check_share(
            account.records + account.rejected + reading.intake.rejected, is_end=True
        )
        tables = self._plans.records.written()
        if drafted is None and tables.tables:
            reading.note_unkept(tables)
        top = next((table.name for table in self._plans.records.tables if not table.level), "")
        return Outcome(
            tuple(reading.intake.sources),
            account.records,
            reading.intake.rejected + account.rejected,
            reading.intake.repeated,
            (*reading.intake.notes, *_told_left_out(reading.intake.log)),
            reading.intake.log,
            reading.intake.is_partial,
            candidate_keys=() if own is None else own.candidate_keys(),
            key_check=None if own is None else own.key_check(),
            key_checks=self._watches.key_checks(),
            filtered=account.filtered,
            left_out=account.left_out + reading.intake.passed,
            rejected_values=account.rejected_values,
            findings=account.findings(),
            unmet=account.unmet(),
            counted=account.counted() if drafted is None else drafted.counted,
            is_whole=drafted is not None and not drafted.is_flat and reading.selection is None,
            top=top if drafted is None else drafted.top,
            unread=reading.intake.rejected,
            cluster=self.cluster_done(),
        )


class MakesRun(Protocol):
    """Makes a run; see `TableRun`."""

    def __call__(
        self,
        inputs: list[Input],
        options: Options,
        progress: Progress,
        stack: ExitStack,
        plans: Plans | None = None,
        text: str = "",
    ) -> TableRun:
        """Return the run."""


def start_run(
    inputs: list[Input],
    options: Options,
    progress: Progress,
    stack: ExitStack,
    layout: Layout | None,
    left_out_before: frozenset[str] | None = None,
    widens: Widens | None = None,
    make: MakesRun | None = None,
) -> TableRun:
    """Return the run that fits: with a layout, or one that drafts its own.

    Args:
        inputs: The sources.
        options: How they are read.
        progress: Is told how far the run is.
        stack: Closes what the run opens.
        layout: The layout; None to draft one.
        left_out_before: As in `LayingPlan`; goes with a layout.
        widens: Says of each column of the layout whether it can get a wider type, where the layout gets a
            place for all that is read; None where it does not.
        make: Makes a run that is done elsewhere.
    """
    if options.memory is not None:
        # The other allocators keep what was freed for later; this one gives it back.
        stack.callback(pa.set_memory_pool, pa.default_memory_pool())
        pa.set_memory_pool(pa.system_memory_pool())
    made: MakesRun = make or TableRun
    if layout is None:
        return made(inputs, options, progress, stack)
    # The model of layouts takes time to load; a run without one does not need it.
    from tessaron.decide.layout_growth import GrowingLayout
    from tessaron.decide.layout_options import with_layout

    options.check_with_layout()
    if widens is not None:
        growing = GrowingLayout(layout, options, widens)
        return TableRun(inputs, growing.options, progress, stack, growing=growing)
    compiled = layout.compiled(options.strict)
    plans = compiled if left_out_before is None else compiled.telling_of_others(left_out_before)
    return made(inputs, with_layout(options, compiled), progress, stack, plans, layout.text)


def check_drafted(laid: Laid, drafted: Drafted) -> None:
    """Check that tables drafted from the data hold all of it; one flat table has not all of them."""
    if not drafted.is_flat:
        for path in laid.left_out:
            raise RuntimeError(f"values at {path} have no column; please report this")
        for problem in laid.problems:
            raise RuntimeError(f"{problem.name}: {problem.cases[0].reason}; please report this")
    # What was passed over was counted while the structure was learnt.
    laid.passed.clear()


def _told_left_out(log: RejectLog) -> list[tuple[str, str]]:
    """Return the note that says that records of rejects were left out."""
    if not log.left_out:
        return []
    records = "1 record is" if log.left_out == 1 else f"{log.left_out:,} records are"
    text = f"{records} not kept with the rejects, as the layout masks values; --keep-raw-rejects keeps them"
    return [("rejects", text)]
