"""A run whose parts are read and written elsewhere: here is decided what no part can know of others."""

from __future__ import annotations

import secrets
from collections import Counter
from collections.abc import Iterator
from contextlib import ExitStack
from dataclasses import dataclass, replace
from typing import Any

from tessaron.core.base.arrays import ArrowRows
from tessaron.core.base.errors import UsageError
from tessaron.core.plan.plan import LayingPlan, Plans
from tessaron.core.tables.lay_work import LaidResult, LayWork
from tessaron.engine.feeds import Feed, Mapper
from tessaron.engine.options import Options
from tessaron.engine.parts.clusters import Cluster, cluster_of
from tessaron.engine.parts.part_events import PartBase, PartedSources
from tessaron.engine.parts.part_feed import PartedFeed, PartMapper, PartSpill
from tessaron.engine.parts.part_planning import fitting_part_bytes
from tessaron.engine.parts.part_specs import LightResult, LightRows, PartTask
from tessaron.engine.parts.task_engine import TaskEngine
from tessaron.engine.pool import Pool
from tessaron.engine.run_progress import Progress
from tessaron.sources.inputs import Input
from tessaron.write.across.chunk_placing import ChunkPlacing
from tessaron.write.across.repeats import DigestingWork, RowDigests
from tessaron.write.books.receipt import ClusterDone, WorkerDone
from tessaron.write.parted.part_writing import (
    PartPlace,
    PartPlacing,
    PartSums,
    PartWritten,
    WatchedKeys,
    WriteDetail,
    write_part,
)
from tessaron.write.table_run import Made, MakesRun, TableRun, check_drafted


@dataclass(frozen=True)
class CountedRows:
    """Counts the rows that tapes come to, without keeping them."""

    work: Any

    def __call__(self, task: Any) -> LaidResult:
        """Return what becomes of a tape, without rows."""
        result: LaidResult = self.work(task)
        counts = {name: LightRows(batch.num_rows) for name, batch in result.laid.batches.items()}
        result.laid.batches, result.laid.records = counts, {}
        return result


class PartedRun(TableRun):
    """One run on an engine.

    Args:
        engine: Where parts are worked on.
        inputs, options, progress, stack, plans, text: As in `TableRun`.
        part_bytes: The bytes of the source in each part; None for what suits the engine.
    """

    def __init__(
        self,
        engine: TaskEngine,
        inputs: list[Input],
        options: Options,
        progress: Progress,
        stack: ExitStack,
        plans: Plans | None = None,
        text: str = "",
        part_bytes: int | None = None,
    ):
        self._engine = engine
        self._sources = PartedSources(
            engine,
            inputs,
            secrets.token_hex(8),
            part_bytes or fitting_part_bytes(inputs, engine.worker_count),
            progress,
        )
        super().__init__(inputs, options, progress, stack, plans, text)
        self.reading.elsewhere = self._sources
        stack.callback(self._forget)

    is_elsewhere = True
    part_count = 0

    def cluster_done(self) -> ClusterDone:
        """Return what the cluster did for the run."""
        workers = sorted(self._engine.tally.workers.values(), key=lambda each: each.worker)
        told = (
            WorkerDone(each.worker, each.tasks, round(each.seconds, 3), each.peak_bytes) for each in workers
        )
        return ClusterDone(self._engine.name, self.part_count, tuple(told))

    def _forget(self) -> None:
        for token in (self._sources.token, f"{self._sources.token}+"):
            self._engine.forget(token)

    def _mapper(self, pool: Pool) -> Mapper:
        self._part_mapper = PartMapper(pool, self._sources)
        return self._part_mapper

    def _record_feed(self, joins: bool) -> Feed:
        spill: Any = PartSpill()
        return PartedFeed(spill, joins=joins, elsewhere=self._sources)

    def _lay_work(self, plan: LayingPlan) -> Any:
        watched = self._repeats.watched
        work = LayWork(plan, self._options.kernel, self._wants_records)
        return DigestingWork(work, watched) if watched and plan is self._plans.records else work

    def _results(self, feed: Feed, plan: LayingPlan) -> Iterator[Any]:
        if not isinstance(feed, PartedFeed):
            return super()._results(feed, plan)
        return self._part_mapper.lay(self._lay_work(plan), feed.spill.read())  # type: ignore[arg-type]

    def _announced(self, plan: LayingPlan) -> Iterator[LaidResult]:
        work = CountedRows(LayWork(plan, self._options.kernel))
        return self._part_mapper.map(work, self._records.spill.read())

    def write_parts(self, place: PartPlace) -> Iterator[PartSums | dict[str, ArrowRows]]:
        """Have all rows written; yield what was written of each, and rows that are made here.

        Args:
            place: Where the rows of parts go.
        """
        here: list[dict[str, ArrowRows]] = []
        tasks = self._write_tasks(place, here)
        for done in self._engine.map(write_part, tasks, is_urgent=True):
            self.part_count += 1
            self._sources.tell()
            while here:
                yield here.pop(0)
            self._take_written(done.result)
            yield done.result.sums
        yield from here
        self._look_back()

    def _write_tasks(self, place: PartPlace, here: list[dict[str, ArrowRows]]) -> Iterator[PartTask]:
        """Yield the task for each part, once all of its chunks are taken in; note rows that are made here."""
        chunks: list[tuple[LightResult, tuple[ChunkPlacing, ...], dict[str, int]]] = []
        before: dict[str, int] = {}
        for made in self._made():
            light: Any = made.result
            if not isinstance(light, LightResult):
                here.append(self._rows_of(made))
                continue
            if chunks and chunks[-1][0].part.number != light.part.number:
                yield self._write_task(place, chunks, before)
                chunks = []
            before = before if chunks else dict(self._numbers.rows)
            chunks.append((light, *self._taken(made, light)))
        if chunks:
            yield self._write_task(place, chunks, before)

    def _write_task(self, place: PartPlace, chunks: list[Any], before: dict[str, int]) -> PartTask:
        rows: Counter[str] = Counter()
        for _, _, counts in chunks:
            rows.update(counts)
        placings = tuple(placing for _, several, _ in chunks for placing in several)
        placing = PartPlacing(placings, before, rows, self._last_keys)
        part = chunks[0][0].part
        self._sources.bases.pop(part.number, None)
        return PartTask(self._packed, part, WriteDetail(placing, place, self._watched_keys()))

    @property
    def _packed(self) -> Any:
        context = self._sources.context
        if self._packed_of is None or self._packed_of[0] is not context:
            self._packed_of = context, self._sources.packed()
        return self._packed_of[1]

    _packed_of: tuple[Any, Any] | None = None

    def _taken(self, made: Made, light: LightResult) -> tuple[tuple[ChunkPlacing, ...], dict[str, int]]:
        """Take in what is told of a chunk; return what is decided about its rows, and how many there are."""
        laid = light.laid
        assert laid is not None
        if self._drafted is not None:
            check_drafted(laid, self._drafted)
        base = self._sources.bases.get(light.part.number, PartBase())
        counts_on = self._is_given and not self._plans.multiplies
        placing = ChunkPlacing(made.records_before if counts_on else base.records, base.lines, base.documents)
        counts = {name: batch.num_rows for name, batch in laid.batches.items()}
        if light.digests is not None:
            digests: RowDigests = light.digests
            placing = self._decided(placing, digests, laid, made)
            if placing.dropped is not None:
                kept = ~placing.dropped
                counts = {name: int(kept[digests.records[name]].sum()) for name in counts}
            counts |= {name: len(index) for name, index in placing.once.items()}
        self.account.add(laid, made.source, made.records_before, light.places)
        for name, count in counts.items():
            self._numbers.rows[name] = self._numbers.rows.get(name, 0) + count
        placings = [placing]
        for count in light.chunks[:-1]:
            before = placings[-1].records_before
            placings.append(replace(placing, records_before=before + count if counts_on else before))
        return tuple(placings), counts

    def _watched_keys(self) -> WatchedKeys:
        own = ("", (), ()) if self._own_watch is None else self._own_watch.watched
        return WatchedKeys(self._watches.watched, *own)

    def _take_written(self, written: PartWritten) -> None:
        self.account.gone.update(written.gone)
        self._watches.take(written.watched)
        if self._own_watch is not None and written.sums.rows.get(self._own_watch.watched[0]):
            self._own_watch.take(written.key, written.possible)


def run_on(cluster: Cluster | str, options: Options, stack: ExitStack) -> MakesRun:
    """Return what makes runs on a cluster, which is open until the stack closes.

    Raises:
        SourceError: When it does not answer.
        UsageError: When an option does not go with it.
    """
    if options.first is not None:
        raise UsageError("first reads so few records that it needs no cluster; leave one of them out")
    chosen = cluster_of(cluster)
    assert chosen is not None
    engine = stack.enter_context(chosen.engine())

    def make(
        inputs: list[Input], options: Options, progress: Progress, stack: ExitStack,
        plans: Plans | None = None, text: str = "",
    ) -> TableRun:  # fmt: skip
        return PartedRun(engine, inputs, options, progress, stack, plans, text, chosen.part_bytes)

    return make
