"""What there is to tell of a source of JSON while it is read, in its order: plain data."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from typing import Any, Protocol

from tessaron.core.base.errors import DataError
from tessaron.core.base.faults import Repeated
from tessaron.core.cutting.json_splitting import Chunk
from tessaron.core.kernel.chunk_reading import ReadTask
from tessaron.core.query.jsonpath import JsonPath
from tessaron.engine.feeds import ChunkResult
from tessaron.engine.intake import ChunkWorks, Intake, Wanted
from tessaron.sources.inputs import ByteInput
from tessaron.sources.json_chunks import Agreed, ChunkReader


@dataclass(frozen=True, slots=True)
class RecordsFound:
    """Where the records stand: the names on the way inside each document, and whether it was recognised."""

    names: tuple[str, ...]
    recognised: bool


@dataclass(frozen=True, slots=True)
class FaultTold:
    """A record that could not be read.

    Attributes:
        error: Why and where; its record counts from the first of the chunk.
        raw: The record as it stands in the source; None where that is not known.
        is_end: Whether nothing behind it could be read.
    """

    error: DataError
    raw: bytes | None
    is_end: bool


@dataclass(frozen=True, slots=True)
class ChunkRead:
    """A chunk of records.

    Attributes:
        result: What became of it.
        faults: The records that could not be read.
        repeated: Names that stood twice in an object, each with the line in which its record begins.
    """

    result: Any
    faults: tuple[FaultTold, ...] = ()
    repeated: tuple[tuple[Repeated, int], ...] = ()


@dataclass(frozen=True, slots=True)
class AroundRead:
    """A document without its records: what became of it, None where it is too long; and what is wrong."""

    result: Any
    names: tuple[str, ...]
    error: DataError | None = None


@dataclass(frozen=True, slots=True)
class Broken:
    """The source ends here, as its outer form is broken."""

    error: DataError


@dataclass(frozen=True, slots=True)
class Behind:
    """Why the form of a source is broken behind a fault that has no end."""

    error: DataError


@dataclass(frozen=True, slots=True)
class SourceEnd:
    """The end of a source: how far the way to the records led, where no document has them; else empty."""

    missing: str = ""


Event = RecordsFound | ChunkRead | AroundRead | Broken | Behind | SourceEnd


class TellsOfSources(Protocol):
    """What tells of sources of JSON while they are read; see `ChunkEvents`."""

    def of(self, entry: ByteInput, documents_before: int) -> Iterator[Event]:
        """Yield what there is to tell of one source."""

    def task(self, chunk: Chunk, source: str) -> ReadTask:
        """Return the work on one chunk."""


EventsOf = Callable[[Wanted, Intake, ChunkWorks, "JsonPath | None", "Agreed | None"], TellsOfSources]
"""Makes that, given what is wanted, who is told, what is done, and where the records stand."""


class ChunkEvents:
    """Reads sources of JSON chunk by chunk.

    Args:
        wanted: What is wanted of them.
        intake: Is told how many bytes are read.
        works: What is done with chunks.
        path: Where the records stand; None to recognise it.
        agreed: As in `ChunkReader`.

    Attributes:
        end: As `ChunkReader.end`, of the last source.
    """

    end = (0, 0)

    def __init__(
        self, wanted: Wanted, intake: Intake, works: ChunkWorks, path: JsonPath | None, agreed: Agreed | None
    ):
        self._wanted, self._intake, self._works = wanted, intake, works
        self._options, self._path, self._agreed = wanted.options, path, agreed

    def of(self, entry: ByteInput, documents_before: int) -> Iterator[Event]:
        """Yield what there is to tell of one source.

        Args:
            entry: The source.
            documents_before: Documents of all sources before it.
        """
        reader = ChunkReader(
            entry, self._intake.count_bytes, self._options.bounded_chunk_bytes(), self._path,
            must_find=False, agreed=self._agreed,
        )  # fmt: skip
        results = self._works.results_of(self._tasks(entry, reader, documents_before))
        has_end = False
        for task, result in results:
            if isinstance(task, DataError):
                yield Behind(task) if has_end else Broken(task)
                break
            if isinstance(task, RecordsFound):
                yield task
                continue
            assert isinstance(task, ReadTask)
            assert isinstance(task.chunk, Chunk)
            if task.chunk.is_skeleton:
                yield _around(task.chunk, result, entry.name, reader)
                continue
            if has_end:
                # What is behind a fault that has no end means nothing; but it may be why.
                break
            found = chunk_read(task.chunk, result, entry.name)
            yield found
            has_end = any(fault.is_end for fault in found.faults)
        if has_end:
            self._works.give_up_ahead()
        self.end = reader.end
        yield SourceEnd(reader.missing)

    def task(self, chunk: Chunk, source: str, document_key: int | None = None) -> ReadTask:
        """Return the work on one chunk."""
        wanted = self._wanted
        return ReadTask(
            chunk,
            self._options.kernel,
            replace(self._options.kernel_options(), selection=wanted.selection),
            source if self._options.origin else None,
            wanted.content,
            document_key,
            source if wanted.is_survey else None,
            self._intake.still_wanted,
            gathered=wanted.gathered,
        )

    def _tasks(
        self, entry: ByteInput, reader: ChunkReader, documents_before: int
    ) -> Iterator[ReadTask | RecordsFound | DataError]:
        """Yield the chunks of a source, and at the end why its outer form is broken, if it is."""
        is_told = False
        chunks = iter(reader)
        while True:
            try:
                chunk = next(chunks, None)
            except DataError as error:
                yield error
                return
            if chunk is None:
                return
            if self._intake.has_enough():
                self._intake.is_partial = True
                return
            if not is_told and reader.place is not None and reader.place.names is not None:
                is_told = True
                yield RecordsFound(reader.place.names, reader.place.recognised)
            if chunk.is_skeleton:
                yield ReadTask(chunk, self._options.kernel, self._options.kernel_options())
                continue
            is_inside = chunk.document >= 0 and self._options.envelope
            yield self.task(chunk, entry.name, documents_before + chunk.document + 1 if is_inside else None)


def chunk_read(chunk: Chunk, result: ChunkResult, source: str) -> ChunkRead:
    """Return what there is to tell of a chunk and of what became of it."""
    if not result.faults and not result.repeated:
        return ChunkRead(result)
    from tessaron.engine.path_reading import data_error

    faults = []
    for fault in result.faults:
        raw = chunk.data[fault.start : fault.stop] if fault.start >= 0 else None
        faults.append(FaultTold(data_error(fault, chunk, source, 0), raw, fault.is_end))
    lines = tuple(map(chunk.line_of, result.offsets))
    return ChunkRead(result, tuple(faults), tuple(zip(result.repeated, lines, strict=True)))


def _around(chunk: Chunk, result: Any, source: str, reader: ChunkReader) -> AroundRead:
    names = (reader.place.names if reader.place is not None else None) or ()
    if not chunk.data:
        return AroundRead(None, names)
    error = None
    if result.faults:
        from tessaron.engine.path_reading import data_error

        error = data_error(result.faults[0], chunk, source, 0)
    return AroundRead(result, names, error)
