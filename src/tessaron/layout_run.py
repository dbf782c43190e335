"""A run with a given layout: every chunk is read and becomes rows at once."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import ExitStack
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
import pyarrow.compute as pc

from tessaron.accounting import Account
from tessaron.core.errors import DataError, Place
from tessaron.core.laying.emitting import Laid, renumber
from tessaron.core.laying.plan import ColumnPlan, LayingPlan
from tessaron.core.laying.work import LaidResult, LayWork
from tessaron.core.layout import TableSet
from tessaron.core.layouts.compiling import CompiledLayout
from tessaron.core.paths import Origin
from tessaron.core.tables import shift_keys
from tessaron.feeds import Feed, Progress
from tessaron.options import Options
from tessaron.pool import Pool
from tessaron.reading import Reading
from tessaron.receipt import Finding, KeyCheck
from tessaron.rejecting import RejectLog
from tessaron.run_outcome import Outcome
from tessaron.sources.inputs import Input
from tessaron.spill import Spill
from tessaron.uniqueness import FirstSeen, UniqueCheck


@dataclass
class _Documents(Feed):
    """Takes in the documents around the records, as rows."""

    waiting: list[tuple[str, LaidResult]] = field(default_factory=list)

    def add(self, result: Any, records_before: int, source: str) -> None:
        """Keep the rows of a document until they are asked for."""
        self.waiting.append((source, result))


class LayoutRun:
    """One run with a layout.

    Attributes:
        reading: What was read.
        account: What was done.
        layout: The tables that are written.
    """

    def __init__(
        self,
        inputs: list[Input],
        options: Options,
        compiled: CompiledLayout,
        text: str,
        progress: Progress,
        stack: ExitStack,
    ):
        self._compiled = compiled
        self._text = text
        self._progress = progress
        self._options = options = with_layout(options, compiled)
        self._pool = stack.enter_context(Pool(options.worker_count(), [entry.size for entry in inputs]))
        self._watching = [stack.enter_context(watch) for watch in _watches(compiled)]
        self._firsts = [
            (each, stack.enter_context(FirstSeen()))
            for each in compiled.uniques
            if each.conditions.failed == "record"
        ]
        self._documents = _Documents(stack.enter_context(Spill()))
        self._records = Feed(stack.enter_context(Spill()), joins=False)
        self._work = LayWork(compiled.records, options.kernel, bool(self._firsts))
        self.reading = Reading(inputs, options, self._records, self._documents, progress, self._pool)
        self.reading.selection = compiled.records.selection
        self.reading.wants_above = compiled.wants_above
        if compiled.around is not None:
            self.reading.around = LayWork(compiled.around, options.kernel)
        self.reading.log = stack.enter_context(_reject_log(options, compiled))
        self.account = Account(compiled.paths, log=self.reading.log)
        around = compiled.around.written().tables if compiled.around is not None else ()
        self.layout = TableSet((*around, *compiled.records.written().tables), compiled.records.natural_key)
        self._rows_before: dict[str, int] = {}
        self._record_numbers = list(_record_numbers(compiled.records))

    def read(self) -> TableSet:
        """Return the tables that will be written, parents before children."""
        return self.layout

    def layout_text(self) -> str:
        """Return the layout as a layout file."""
        return self._text

    def done(self) -> Outcome:
        """Return what was done, once all rows were taken."""
        reading, account = self.reading, self.account
        read = account.records + account.rejected + reading.rejected
        reading.log.check_share(read, is_end=True)
        checks = self.key_checks()
        if self._compiled.records.written().tables:
            reading.note_unkept(self._compiled.records.written())
        return Outcome(
            tuple(reading.sources),
            account.records,
            reading.rejected + account.rejected,
            reading.repeated,
            (*reading.notes, *_told_left_out(reading.log)),
            reading.log,
            reading.is_partial,
            key_checks=checks,
            filtered=account.filtered,
            left_out=account.left_out + reading.passed,
            rejected_values=account.rejected_values,
            findings=account.findings(),
            unmet=account.unmet(),
            counted=account.counted(),
            top=next((table.name for table in self._compiled.records.tables if not table.level), ""),
            unread=reading.rejected,
        )

    def rows(self) -> Iterator[dict[str, Any]]:
        """Yield, chunk by chunk, the rows of the tables."""
        chunks = self._put_aside() if self._compiled.multiplies else self._streamed()
        for source, result, records_before in chunks:
            yield from self._waiting_documents()
            laid = result.laid
            if not self._compiled.multiplies:
                self._count_records_on(laid, records_before)
            laid = self._without_repeats(laid, source, records_before)
            self.account.add(laid, source, records_before, result.places)
            yield self._numbered(laid, self._compiled.records)
        yield from self._waiting_documents()
        self._look_back()

    def _count_records_on(self, laid: Laid, records_before: int) -> None:
        """Let record numbers, which a chunk counts from 1, go on after the chunks before it."""
        for table, index in self._record_numbers if records_before else ():
            batch = laid.batches[table]
            numbers = pc.add(batch.column(index), records_before)
            laid.batches[table] = batch.set_column(index, batch.schema.field(index), numbers)

    def _streamed(self) -> Iterator[tuple[str, LaidResult, int]]:
        self.reading.work = self._work
        yield from self.reading.results()

    def _put_aside(self) -> Iterator[tuple[str, LaidResult, int]]:
        """Read all first, so that the number of rows that tables multiply to can be announced."""
        self.reading.read_all()
        feed = self._records
        counts: dict[str, int] = {}
        feed.close()
        for result in self._pool.map(self._work, feed.spill.read()):
            for name, batch in result.laid.batches.items():
                counts[name] = counts.get(name, 0) + batch.num_rows
        for table in self._compiled.records.tables:
            if table.multiply:
                pairs = " × ".join((table.name, *table.multiply))
                self._progress.say(f"{table.name}: {counts.get(table.name, 0):,} rows come out of {pairs}")
        for index, result in enumerate(self._pool.map(self._work, feed.spill.read())):
            yield feed.sources[index], result, feed.records_before[index]

    def _waiting_documents(self) -> Iterator[dict[str, Any]]:
        for source, result in self._documents.waiting:
            laid = result.laid
            records, rejected = self.account.records, self.account.rejected
            self.account.add(laid, source, 0, result.places)
            self.account.records, self.account.rejected = records, rejected
            assert self._compiled.around is not None
            yield self._numbered(laid, self._compiled.around)
        self._documents.waiting.clear()

    def _numbered(self, laid: Laid, plan: LayingPlan) -> dict[str, Any]:
        batches = shift_keys(laid.batches, plan.written(), self._rows_before)
        for name, batch in batches.items():
            self._rows_before[name] = self._rows_before.get(name, 0) + batch.num_rows
        for watch in self._watching:
            if watch.table in batches and batches[watch.table].num_rows:
                watch.check.add(batches[watch.table])
        return batches

    def _without_repeats(self, laid: Laid, source: str, records_before: int) -> Laid:
        """Leave out the records that repeat a value which must be unique."""
        dropped = np.zeros(laid.record_count, np.bool_)
        for plan, seen in self._firsts:
            batch = laid.batches[plan.table]
            values = batch.column(batch.schema.get_field_index(plan.name))
            repeats = seen.repeats(values)
            if repeats.any():
                records = laid.records[plan.table][repeats]
                for record in np.unique(records[~dropped[records]]).tolist():
                    self.account.reject_repeat(plan, source, records_before + record + 1)
                dropped[records] = True
                self._say_repeats(plan, int(repeats.sum()), source)
        if not dropped.any():
            return laid
        laid.rejected += int(dropped.sum())
        left = renumber(laid, self._compiled.records, dropped)
        _count_dropped(laid, left)
        return left

    def _say_repeats(self, plan: ColumnPlan, count: int, source: str) -> None:
        name = f"{plan.table}.{plan.name}"
        known = next(
            (each for each in self.account.findings() if (each.code, each.name) == ("unique", name)), None
        )
        reason = known.example if known else f"a value is there already ({source})"
        total = count + (known.count if known else 0)
        self.account.note(Finding("unique", name, plan.text, "record", total, reason))

    def _look_back(self) -> None:
        """Check what only the whole run shows."""
        for watch in self._watching:
            repeats = watch.check.duplicates() if watch.outcome != "key" else 0
            if not repeats:
                continue
            reason = f"{repeats:,} values are there more than once"
            if watch.outcome == "stop":
                name = f"{watch.table}.{watch.columns[0]}"
                raise DataError(
                    f"{name}: {reason}; the layout says to stop", Place("the whole run"), "unique"
                )
            name = f"{watch.table}.{watch.columns[0]}"
            self.account.note(Finding("unique", name, "", "note", repeats, reason))

    def key_checks(self) -> tuple[KeyCheck, ...]:
        """Return how the natural keys of the tables stood the test of being unique."""
        return tuple(
            KeyCheck(watch.columns, watch.check.duplicates(), watch.check.nulls, watch.table)
            for watch in self._watching
            if watch.outcome == "key"
        )


def _count_dropped(laid: Laid, left: Laid) -> None:
    """Count the rows and values of records that were dropped late."""
    for name, batch in laid.batches.items():
        if name not in laid.read:
            continue
        left.gone[name] += batch.num_rows - left.batches[name].num_rows
        for column, values in zip(batch.schema.names, batch.columns, strict=True):
            kept = left.batches[name].column(column)
            if f"{name}.{column}" in laid.read:
                left.gone[f"{name}.{column}"] += len(values.drop_null()) - len(kept.drop_null())


def _record_numbers(plan: LayingPlan) -> Iterator[tuple[str, int]]:
    """Yield the written columns with the number of the record: their table, and their place in it."""
    for table in plan.tables:
        for index, (other, name) in enumerate(table.output if table.table is not None else ()):
            column = next(each for each in plan.table(other).columns if each.name == name)
            if column.source is not None and column.source.path[-1:] == (Origin.RECORD,):
                assert table.table is not None
                yield table.name, len(table.table.key_columns()) + index


@dataclass
class _Watch:
    """Columns that are watched over the whole run; a context that closes what is collected."""

    table: str
    columns: tuple[str, ...]
    outcome: str
    check: UniqueCheck

    def __enter__(self) -> _Watch:
        return self

    def __exit__(self, *error: object) -> None:
        self.check.close()


def _watches(compiled: CompiledLayout) -> Iterator[_Watch]:
    for table, columns in compiled.keys.items():
        yield _Watch(table, columns, "key", UniqueCheck(columns))
    for plan in compiled.uniques:
        if plan.conditions.failed != "record":
            yield _Watch(plan.table, (plan.name,), plan.conditions.failed, UniqueCheck((plan.name,)))


def _reject_log(options: Options, compiled: CompiledLayout) -> RejectLog:
    """Return where rejects go; with masks the records of rejects are only kept where that is asked for."""
    hides = compiled.has_masks and not options.keep_raw_rejects
    return RejectLog(options.stop_after, options.stop_at_share, keeps_records=not hides)


def _told_left_out(log: RejectLog) -> list[tuple[str, str]]:
    """Return the note that says that records of rejects were left out."""
    if not log.left_out:
        return []
    records = "1 record is" if log.left_out == 1 else f"{log.left_out:,} records are"
    text = f"{records} not kept with the rejects, as the layout masks values; --keep-raw-rejects keeps them"
    return [("rejects", text)]


def with_layout(options: Options, compiled: CompiledLayout) -> Options:
    """Return the options with what the layout says of reading."""
    part = compiled.reading
    plans = [column for table in compiled.records.tables for column in table.columns]
    ends = {each.source.path[-1] for each in plans if each.source is not None and each.source.path}
    return replace(
        options,
        records=part.records,
        envelope=part.envelope and (compiled.around is not None or Origin.DOCUMENT in ends),
        duplicate_keys=part.duplicate_keys,
        format=part.format,
        white_space=part.white_space,
        namespaces=part.namespaces,
        xsd=part.xsd,
        keys=part.keys,
        exact=compiled.records.exact,
        key=compiled.records.natural_key,
        origin=options.origin or compiled.wants_origin,
        # A chunk becomes fragment, columns and rows at once here: where memory is short it is smaller.
        chunk_bytes=options.bounded_chunk_bytes() // (1 if options.memory is None else 3),
    )
