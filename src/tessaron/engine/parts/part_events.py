"""What parts that are read elsewhere tell, as if they were read here; and chunks cut here for there."""

from __future__ import annotations

import pickle
from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from itertools import count
from typing import Any, cast

from tessaron.core.base.errors import Place
from tessaron.core.cutting.json_splitting import Chunk
from tessaron.core.kernel.chunk_reading import ReadTask
from tessaron.core.query.jsonpath import JsonPath
from tessaron.core.tape.tape import Tape
from tessaron.engine.chunk_events import AroundRead, Broken, ChunkEvents, ChunkRead, Event
from tessaron.engine.feeds import ShapeWork
from tessaron.engine.intake import ChunkWorks, Intake, Wanted
from tessaron.engine.parts.part_planning import PartPlan
from tessaron.engine.parts.part_specs import (
    FilePiece,
    LightResult,
    PackedOnce,
    PartContext,
    PartTask,
    PieceRead,
    RowWork,
    SentChunks,
    SentTape,
    SourcePart,
)
from tessaron.engine.parts.part_work import read_part
from tessaron.engine.parts.task_engine import TaskEngine
from tessaron.engine.run_progress import NoProgress, Progress
from tessaron.sources.inputs import ByteInput, Input
from tessaron.sources.json_chunks import Agreed
from tessaron.sources.spans import check_chain

_SENT_BYTES = 8 * 1024 * 1024
"""So many bytes of chunks that were cut here are sent as one part."""


@dataclass(frozen=True, slots=True)
class PartBase:
    """What was counted before a part: of its source records and line ends, of the run documents."""

    records: int = 0
    lines: int = 0
    documents: int = 0


@dataclass(slots=True)
class PartedSources:
    """The sources of a run, read in parts.

    Attributes:
        engine: Where that is done.
        inputs: The sources.
        token: By which workers know the run.
        part_bytes: The bytes of a part.
        progress: Is told what workers have done.
        context: What all parts have in common, once it is known.
        bases: By part, what was counted before it, where that is not nothing.
    """

    engine: TaskEngine
    inputs: list[Input]
    token: str
    part_bytes: int
    progress: Progress = field(default_factory=NoProgress)
    context: PartContext | None = None
    bases: dict[int, PartBase] = field(default_factory=dict)
    _numbers: Iterator[int] = field(default_factory=count)
    _plan: PartPlan | None = None

    def works(self, works: ChunkWorks, wanted: Wanted) -> ChunkWorks:
        """Return what does elsewhere with chunks what `works` does here."""
        # A task has one thread, and a worker does one task at a time.
        options = replace(wanted.options, on_rows=None, workers=1)
        reads = None if isinstance(works.work, ShapeWork) else cast("RowWork", works.work)
        joins = works.records.joins
        self.context = PartContext(self.token, replace(wanted, options=options), reads=reads, joins=joins)
        return PartedWorks(works.mapper, works.work, works.around, works.records, works.documents, self)

    def events(
        self, wanted: Wanted, intake: Intake, works: ChunkWorks, path: JsonPath | None, agreed: Agreed | None
    ) -> PartEvents:
        """Return what tells of sources of JSON."""
        assert self.context is not None
        self.context = replace(self.context, path=path, agreed=agreed)
        return PartEvents(self, wanted, intake, works, path, agreed)

    def packed(self) -> PackedOnce:
        """Return the context as it travels."""
        assert self.context is not None
        return PackedOnce.of(self.context)

    def results(self, parts: Iterator[SourcePart]) -> Iterator[tuple[SourcePart, Any]]:
        """Yield parts with what there is to tell of each, in order; the part knows its worker then."""
        packed, waiting = self.packed(), []

        def tasks() -> Iterator[PartTask]:
            for part in parts:
                waiting.append(part)
                yield PartTask(packed, part)

        for done in self.engine.map(read_part, tasks()):
            self.tell()
            yield replace(waiting.pop(0), near=done.worker), done.result

    def tell(self) -> None:
        """Tell what each worker has done so far."""
        self.progress.work({name: tally.tasks for name, tally in self.engine.tally.workers.items()})

    @property
    def plan(self) -> PartPlan:
        """In which parts the sources are read."""
        if self._plan is None:
            assert self.context is not None
            path, agreed = self.context.path, self.context.agreed
            self._plan = PartPlan(self.inputs, self.part_bytes, path, agreed)
        return self._plan

    def next_number(self) -> int:
        """Return the number of the next part."""
        return next(self._numbers)

    def planned(self) -> Iterator[SourcePart]:
        """Yield the parts of the sources that workers open by themselves."""
        for pieces, byte_count in self.plan.parts():
            yield SourcePart(self.next_number(), pieces, byte_count=byte_count)


@dataclass(frozen=True, slots=True)
class PartedWorks(ChunkWorks):
    """Does elsewhere what is to be done with chunks that are cut here.

    Attributes:
        sources: The sources that they are of.
    """

    sources: PartedSources

    def results_of(self, tasks: Iterator[Any]) -> Iterator[tuple[Any, Any]]:
        """Yield tasks with what becomes of them; chunks go in groups, what is none waits in its place."""
        groups: list[list[Any]] = []

        def parts() -> Iterator[SourcePart]:
            for group in _grouped(tasks):
                groups.append(group)
                chunks = tuple(each for each in group if _goes_there(each))
                if chunks:
                    size = sum(len(each.chunk.data) for each in chunks)
                    yield SourcePart(self.sources.next_number(), sent=SentChunks(chunks), byte_count=size)

        for part, read in self.sources.results(parts()):
            while groups and not any(map(_goes_there, groups[0])):
                yield from self._without_chunks(groups.pop(0))
            found = iter(read.results)
            for task in groups.pop(0):
                if not _goes_there(task):
                    yield from self._without_chunks([task])
                    continue
                light = next(found, None)
                yield task, None if light is None else replace(light, part=part)
        for group in groups:
            yield from self._without_chunks(group)

    def of(self, tape: Tape) -> Any:
        """Return what becomes of a tape that was made here."""
        sent = SentTape(pickle.dumps(tape))
        part = SourcePart(self.sources.next_number(), sent=sent, byte_count=len(sent.packed))
        for at, read in self.sources.results(iter((part,))):
            return replace(read.results[0], part=at)
        return None

    def give_up_ahead(self) -> None:
        """Do nothing: what is put aside elsewhere counts only where it was taken in."""

    def _without_chunks(self, group: list[Any]) -> Iterator[tuple[Any, Any]]:
        for task in group:
            is_around = isinstance(task, ReadTask) and task.chunk.data
            yield task, self.around(task) if is_around else None


def _goes_there(task: Any) -> bool:
    if not isinstance(task, ReadTask) or not task.chunk.data:
        return False
    return not (isinstance(task.chunk, Chunk) and task.chunk.is_skeleton)


def _grouped(tasks: Iterator[Any]) -> Iterator[list[Any]]:
    """Yield tasks in groups worth a part."""
    group: list[Any] = []
    size = 0
    for task in tasks:
        group.append(task)
        size += len(task.chunk.data) if _goes_there(task) else 0
        if size >= _SENT_BYTES:
            yield group
            group, size = [], 0
    if group:
        yield group


class PartEvents:
    """Tells of sources of JSON what `ChunkEvents` does, read elsewhere where that can be.

    Args:
        sources: The sources.
        wanted, intake, works, path, agreed: As in `ChunkEvents`.
    """

    def __init__(
        self,
        sources: PartedSources,
        wanted: Wanted,
        intake: Intake,
        works: ChunkWorks,
        path: JsonPath | None,
        agreed: Agreed | None,
    ):
        self._sources, self._intake, self._works = sources, intake, works
        self._here = ChunkEvents(wanted, intake, works, path, agreed)
        self.task = self._here.task
        self._pieces: Iterator[tuple[SourcePart, FilePiece, PieceRead]] | None = None
        self._numbers: dict[int, int] = {}

    def of(self, entry: ByteInput, documents_before: int) -> Iterator[Event]:
        """Yield what there is to tell of one source; see `ChunkEvents.of`."""
        if self._pieces is None:
            self._pieces = self._all_pieces()
            self._numbers = {id(each): number for number, each in enumerate(self._sources.inputs)}
        number = self._numbers[id(entry)]
        if not self._sources.plan.is_read_there(number):
            yield from self._here.of(entry, documents_before)
            return
        records = lines = byte_count = 0
        members: list[tuple[int | None, int | None]] = []
        for part, piece, read in self._pieces:
            if piece.entry != number:
                # What stands behind the end of a source that broke off.
                continue
            self._intake.count_bytes(read.byte_count)
            if part.number not in self._sources.bases:
                self._sources.bases[part.number] = PartBase(records, lines, documents_before)
            has_end = False
            for event in read.events:
                told = self._told(event, part, entry, lines, byte_count)
                if isinstance(told, ChunkRead):
                    records += told.result.record_count
                    has_end |= any(fault.is_end for fault in told.faults)
                has_end |= isinstance(told, Broken)
                yield told
            if has_end:
                return
            byte_count, lines = byte_count + read.end[0], lines + read.end[1]
            members.append(read.members)
            if piece.is_last:
                break
        check_chain(entry.name, members)

    def _all_pieces(self) -> Iterator[tuple[SourcePart, FilePiece, PieceRead]]:
        for part, read in self._sources.results(self._sources.planned()):
            for piece, told in zip(part.files, read.pieces, strict=True):
                yield part, piece, told

    def _told(self, event: Event, part: SourcePart, entry: ByteInput, lines: int, byte_count: int) -> Event:
        """Return an event as it would be told here."""
        if isinstance(event, AroundRead) and event.result is not None:
            return self._around(event, entry.name)
        if not isinstance(event, ChunkRead):
            return event
        light: LightResult = event.result
        light = replace(light, part=part)
        if not lines and not byte_count:
            return replace(event, result=light)

        def moved(place: Place) -> Place:
            return replace(
                place,
                line=None if place.line is None else place.line + lines,
                byte_offset=None if place.byte_offset is None else place.byte_offset + byte_count,
            )

        light.places = {
            record: replace(place, line=place.line + lines, byte_offset=place.byte_offset + byte_count)
            for record, place in light.places.items()
        }
        faults = tuple(
            replace(
                fault, error=type(fault.error)(fault.error.reason, moved(fault.error.place), fault.error.code)
            )
            for fault in event.faults
        )
        repeated = tuple((found, line + lines) for found, line in event.repeated)
        return ChunkRead(light, faults, repeated)

    def _around(self, event: AroundRead, source: str) -> AroundRead:
        """Return a document around records, with what becomes of it, which is done here."""
        from tessaron.engine.path_reading import data_error

        task: ReadTask = event.result
        result = self._works.around(task)
        error = None
        if result.faults:
            assert isinstance(task.chunk, Chunk)
            error = data_error(result.faults[0], task.chunk, source, 0)
        return replace(event, result=result, error=error)
