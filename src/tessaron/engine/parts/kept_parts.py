"""What a worker keeps of parts between tasks: tapes, then rows. What is lost is made again."""

from __future__ import annotations

import os
import pickle
import socket
import time
from collections.abc import Iterator
from contextlib import nullcontext
from dataclasses import dataclass, field, replace
from threading import Lock
from typing import Any, BinaryIO, cast

import pyarrow as pa

from tessaron.core.base.errors import SourceError
from tessaron.core.cutting.json_splitting import Chunk
from tessaron.core.kernel.chunk_reading import ReadTask
from tessaron.core.lines.row_records import LineStream
from tessaron.core.tables.lay_work import LaidResult
from tessaron.core.tape.gathering import gather
from tessaron.core.tape.tape import Tape
from tessaron.engine.aside.spill import Spill
from tessaron.engine.chunk_events import AroundRead, ChunkEvents, ChunkRead, Event
from tessaron.engine.feeds import Feed, Learners, ReadResult, ShapeWork
from tessaron.engine.intake import ChunkWorks, Intake
from tessaron.engine.parts.kept_files import kept_spill
from tessaron.engine.parts.part_specs import (
    FilePiece,
    LightResult,
    LightRows,
    PackedOnce,
    PartContext,
    PartRead,
    PieceRead,
    SentChunks,
    SentTape,
    SourcePart,
    together,
)
from tessaron.engine.parts.rows_aside import RowsAside
from tessaron.engine.run_progress import NoProgress
from tessaron.sources.inputs import ByteInput
from tessaron.sources.spans import SpanLines

_UNPACKED_KEPT = 8
_IDLE_SECONDS = 3600.0
"""What nobody has asked for so long, of a run that never said that it was over, goes."""


@dataclass(slots=True)
class KeptPart:
    """What is kept of a part.

    Attributes:
        feed: Its tapes, with what was learnt of them; None where it became rows at once.
        rows: Its rows; None where they are not made.
        read: What there was to tell of it.
        laid: What there was to tell of its tapes, when rows were made of them.
        used: When it was last asked for, in seconds of the process.
    """

    feed: Feed | None = None
    rows: RowsAside | None = None
    read: PartRead = field(default_factory=PartRead)
    laid: list[LightResult] = field(default_factory=list)
    used: float = 0.0


_KEPT: dict[tuple[str, int], KeptPart] = {}
_UNPACKED: dict[str, Any] = {}
_LOCK = Lock()


def context_of(packed: PackedOnce) -> PartContext:
    """Return a context; the last few are kept."""
    return cast("PartContext", unpacked(packed))


def unpacked(packed: PackedOnce) -> Any:
    """Return what was packed for all tasks; the last few are kept."""
    with _LOCK:
        known = _UNPACKED.pop(packed.name, None)
    if known is None:
        known = pickle.loads(packed.data)
    with _LOCK:
        _UNPACKED[packed.name] = known
        while len(_UNPACKED) > _UNPACKED_KEPT:
            del _UNPACKED[next(iter(_UNPACKED))]
    return known


def forget_run(token: str) -> None:
    """Give up what is kept of a run, and of runs that nobody has asked for in a long time."""
    now = time.monotonic()
    with _LOCK:
        for key, kept in list(_KEPT.items()):
            if key[0] == token or now - kept.used > _IDLE_SECONDS:
                # A task that reads it still holds it until it is done.
                del _KEPT[key]


def forget_part(context: PartContext, part: SourcePart) -> None:
    """Give up what is kept of a part."""
    with _LOCK:
        _KEPT.pop((context.token, part.number), None)


def kept_part(context: PartContext, part: SourcePart) -> KeptPart:
    """Return what is kept of a part; read now, where that is nothing."""
    key = (context.token, part.number)
    with _LOCK:
        kept = _KEPT.get(key)
    if kept is None:
        kept = _read(context, part)
        with _LOCK:
            # A task that runs twice may have been quicker: it has made the same.
            kept = _KEPT.setdefault(key, kept)
    kept.used = time.monotonic()
    return kept


def rows_of(context: PartContext, part: SourcePart) -> RowsAside:
    """Return the rows of a part; made now, where they are not kept."""
    kept = kept_part(context, part)
    lay_tapes(context, part, kept)
    assert kept.rows is not None
    return kept.rows


def lay_tapes(context: PartContext, part: SourcePart, kept: KeptPart) -> list[LightResult]:
    """Make rows of the tapes of a part, which go then; return what there is to tell of each tape."""
    work, feed = context.lays, kept.feed
    if feed is None:
        # Its chunks became rows at once, or its tapes have before.
        return kept.laid
    assert work is not None
    rows, told = RowsAside(_schemas_of(work), kept_spill()), []
    for packed in feed.spill.read():
        result = work(packed)
        rows.add(result.laid)
        told.append(_light(result, part))
    kept.rows, kept.laid, kept.feed = rows, told, None
    return told


def _schemas_of(work: Any) -> dict[str, Any]:
    return {table.name: table.arrow_schema() for table in work.plan.written().tables}


class _InTurn:
    """Does one task after the other: what runs at once are the parts."""

    def map(self, work: Any, tasks: Iterator[Any]) -> Iterator[Any]:
        return map(work, tasks)


@dataclass(frozen=True, slots=True)
class _Untouched:
    """Leaves what stands around records to who asked for the part: it is little, and kept there."""

    def __call__(self, task: ReadTask) -> ReadResult:
        return ReadResult(cast("Any", task), 0, [], [], [])

    def of(self, tape: Tape) -> object:
        return tape


def _read(context: PartContext, part: SourcePart) -> KeptPart:
    kept = KeptPart()
    options = context.wanted.options
    if options.memory is not None:
        # As on one machine: this allocator gives back what was freed.
        pa.set_memory_pool(pa.system_memory_pool())
    feed = Feed(kept_spill(), Learners(options.kernel != "python"), joins=context.joins)
    if options.memory is not None:
        feed.most_bytes = options.bounded_chunk_bytes()
    if context.reads is None:
        kept.feed = feed
    else:
        kept.rows = RowsAside(_schemas_of(context.reads), kept_spill())
    maker = _PartReader(context, part, kept, feed)
    if isinstance(part.sent, SentTape):
        results: tuple[LightResult, ...] = (maker.take(maker.work.of(_tape_in(part.sent, context)), 0, ""),)
        kept.read = PartRead(results=results)
    elif isinstance(part.sent, SentChunks):
        kept.read = PartRead(results=tuple(maker.of_chunks(part.sent)))
    else:
        kept.read = PartRead(tuple(map(maker.of_file, part.files)))
    if kept.feed is not None:
        kept.feed.close()
    return kept


def _tape_in(sent: SentTape, context: PartContext) -> Tape:
    return gather(cast("Tape", pickle.loads(sent.packed)), context.wanted.gathered)


class _PartReader:
    """Reads one part."""

    def __init__(self, context: PartContext, part: SourcePart, kept: KeptPart, feed: Feed):
        self._context, self._part, self._kept = context, part, kept
        self.work: Any = context.reads or ShapeWork(feed.learners)
        self._documents = 0

    def take(self, result: Any, records_before: int, source: str) -> LightResult:
        """Keep what became of a chunk; return what there is to tell of it."""
        kept = self._kept
        if kept.feed is not None:
            kept.feed.add(result, records_before, source)
        if kept.rows is not None:
            kept.rows.add(result.laid)
        return _light(result, self._part)

    def of_chunks(self, sent: SentChunks) -> Iterator[LightResult]:
        """Yield what became of each chunk; none behind a fault that has no end."""
        records = 0
        for task in sent.tasks:
            # Whoever cut them hands the reader's settings on; trees may be known only since.
            result = self.work(replace(task, gathered=self._context.wanted.gathered))
            yield self.take(result, records, "")
            # Records of XML have their numbers from where they were cut.
            records += result.record_count if isinstance(task.chunk, Chunk) else 0
            if any(fault.is_end for fault in result.faults):
                return

    def of_file(self, piece: FilePiece) -> PieceRead:
        """Return what there is to tell of a file, or of a span of one."""
        context = self._context
        intake = Intake(NoProgress())
        works = ChunkWorks(_InTurn(), self.work, cast("Any", _Untouched()), Feed(Spill()), Feed(Spill()))
        lines: list[SpanLines] = []
        _check_seen(piece)
        entry = _input_of(piece, lines)
        source = ChunkEvents(context.wanted, intake, works, context.path, context.agreed)
        events: list[Event] = []
        records = 0
        for event in source.of(entry, self._documents):
            self._documents += isinstance(event, AroundRead)
            if isinstance(event, ChunkRead):
                light = self.take(event.result, records, piece.name)
                records += light.record_count
                events.append(replace(event, result=light))
            elif isinstance(event, AroundRead) and event.result is not None:
                events.append(replace(event, result=event.result.read))
            else:
                events.append(event)
        members = (lines[0].first, lines[0].end) if lines else (None, None)
        return PieceRead(tuple(_fewer(events)), intake.byte_count, source.end, members)


def _fewer(events: list[Event]) -> Iterator[Event]:
    """Yield events with those of chunks together of which nothing is to be told: they are counted once."""
    plain: list[LightResult] = []
    for event in events:
        if isinstance(event, ChunkRead) and event.result.is_plain:
            plain.append(event.result)
            continue
        if plain:
            yield ChunkRead(together(plain))
            plain = []
        yield event
    if plain:
        yield ChunkRead(together(plain))


def _light(result: Any, part: SourcePart) -> LightResult:
    light = LightResult(
        part, result.record_count, result.faults, result.repeated, result.offsets, result.is_cut,
        result.run_counts,
    )  # fmt: skip
    if isinstance(result, LaidResult):
        counts = {name: LightRows(batch.num_rows) for name, batch in result.laid.batches.items()}
        light.laid = replace(result.laid, batches=counts, records={})
        light.places, light.digests = result.places, result.digests
    return light


def _check_seen(piece: FilePiece) -> None:
    """Check that a file that was listed elsewhere can be seen here."""
    if piece.path is not None and not os.path.exists(piece.path):
        raise SourceError(
            f"{piece.name}: the worker on {socket.gethostname()} does not see this file; a cluster reads "
            "from a folder that all its hosts share, or an object store"
        )


def _input_of(piece: FilePiece, lines: list[SpanLines]) -> ByteInput:
    """Return a piece as what is read; the lines of a span are noted."""
    if piece.span is None and piece.path is not None:
        return ByteInput(piece.name, piece.size or None, path=piece.path)
    if piece.store is not None:
        from tessaron.sources.remote.store_objects import opened_place

        listing = opened_place(piece.store)
        if piece.span is None:
            return ByteInput(piece.name, piece.size or None, opener=lambda: listing.open(0))

        def open_at(offset: int) -> Any:
            return listing.open_at(0, offset)

    else:

        def open_at(offset: int) -> Any:
            file = ByteInput(piece.name, path=piece.path).open()
            cast("BinaryIO", file).seek(offset)
            return file

    assert piece.span is not None
    found = SpanLines(piece.name, open_at, piece.span)
    lines.append(found)

    def opened() -> Any:
        return nullcontext(cast("BinaryIO", LineStream(iter(found))))

    return ByteInput(piece.name, piece.size, opener=opened, span=piece.span)
