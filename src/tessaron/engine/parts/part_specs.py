"""Parts of the input, and what all parts of a run have in common: plain data that travels to workers."""

from __future__ import annotations

import hashlib
import pickle
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import Any, Protocol

from tessaron.core.base.faults import Fault, Repeated
from tessaron.core.kernel.chunk_reading import ReadTask
from tessaron.core.query.jsonpath import JsonPath
from tessaron.core.tables.laid import Laid
from tessaron.core.tables.lay_work import CasePlace, LaidResult
from tessaron.core.tape.tape import Tape
from tessaron.engine.chunk_events import Event
from tessaron.engine.intake import Wanted
from tessaron.sources.forms.store_place import StorePlace
from tessaron.sources.json_chunks import Agreed
from tessaron.sources.spans import Span


@dataclass(frozen=True, slots=True)
class FilePiece:
    """A file, or a span of one, that a worker opens by itself.

    Attributes:
        entry: The number of the source in the run.
        name: What it is called in messages.
        size: Its bytes.
        path: Where it is, if it is a file.
        store: Where it is, if it stands in an object store.
        span: The span; None for all of it.
        is_last: Whether no other piece of the same source follows.
    """

    entry: int
    name: str
    size: int
    path: str | None = None
    store: StorePlace | None = None
    span: Span | None = None
    is_last: bool = True


@dataclass(frozen=True, slots=True)
class SentChunks:
    """Chunks that were cut here, to be parsed there."""

    tasks: tuple[ReadTask, ...]


@dataclass(frozen=True, slots=True)
class SentTape:
    """A tape that was made here, pickled."""

    packed: bytes


@dataclass(frozen=True, slots=True)
class SourcePart:
    """What one task works on.

    Attributes:
        number: Its place in the run, from 0.
        files: Files, or spans of them.
        sent: Instead: what was cut or made here.
        byte_count: How much that is, in bytes of the source.
        near: The worker that has what was made of it; empty where none has.
    """

    number: int
    files: tuple[FilePiece, ...] = ()
    sent: SentChunks | SentTape | None = None
    byte_count: int = 0
    near: str = ""


class RowWork(Protocol):
    """Makes rows of chunks, or of tapes that were put aside; can be pickled. See `LayWork`."""

    def __call__(self, task: Any) -> LaidResult:
        """Return what becomes of one."""

    def of(self, tape: Tape) -> LaidResult:
        """Return what becomes of a tape."""


@dataclass(frozen=True, slots=True)
class PartContext:
    """What all parts of a run have in common.

    Attributes:
        token: Of the run, and of how it reads: what is kept is known by it.
        wanted: What is wanted of the sources.
        path: Where the records stand, if that is given.
        agreed: As in `ChunkReader`.
        reads: By a layout that is given: what becomes of chunks at once; None where tapes are put aside.
        lays: What becomes of tapes, once it is known.
        joins: Whether small tapes are joined; see `Feed`.
    """

    token: str
    wanted: Wanted
    path: JsonPath | None = None
    agreed: Agreed | None = None
    reads: RowWork | None = None
    lays: RowWork | None = None
    joins: bool = True


@dataclass(frozen=True, slots=True)
class PackedOnce:
    """What is the same for all tasks of a kind, as it travels: pickled once, unpickled once by a worker."""

    name: str
    data: bytes

    @classmethod
    def of(cls, value: object) -> PackedOnce:
        """Return a value packed."""
        data = pickle.dumps(value)
        return cls(hashlib.blake2b(data, digest_size=16).hexdigest(), data)


@dataclass(frozen=True, slots=True)
class PartTask:
    """One part, with what is to be known to work on it.

    Attributes:
        context: What all parts have in common.
        part: The part.
        detail: What else the work needs.
    """

    context: PackedOnce
    part: SourcePart
    detail: Any = None

    @property
    def near(self) -> str:
        """The worker that has what was made of it."""
        return self.part.near


@dataclass(frozen=True, slots=True)
class LightRows:
    """Rows that stand elsewhere: how many there are."""

    num_rows: int


@dataclass(slots=True)
class LightResult:
    """What became of a chunk, without its tape or rows, which are kept where they were made.

    Attributes:
        part: The part that it belongs to.
        laid: What `lay` found, with the counts of rows in the place of rows; None where a tape was put aside.
        digests: As in `LaidResult`.
        chunks: The records of each chunk, where several of which nothing is to be told are one result.
        record_count, faults, repeated, offsets, is_cut, run_counts, places: As in `LaidResult`.
    """

    part: SourcePart
    record_count: int
    faults: list[Fault] = field(default_factory=list)
    repeated: list[Repeated] = field(default_factory=list)
    offsets: list[int] = field(default_factory=list)
    is_cut: bool = False
    run_counts: list[int] = field(default_factory=list)
    laid: Laid | None = None
    places: dict[int, CasePlace] = field(default_factory=dict)
    digests: Any = None
    chunks: tuple[int, ...] = ()

    @property
    def is_plain(self) -> bool:
        """Whether nothing is to be told but counts."""
        told = (self.faults, self.repeated, self.run_counts, self.is_cut, self.digests is not None)
        return self.laid is not None and not any(told) and not self.laid.problems


@dataclass(frozen=True, slots=True)
class PieceRead:
    """What there is to tell of a piece: its events; bytes read; and of a span bytes, line ends and its ends.

    Attributes:
        events: What was met, results of records light.
        byte_count: Bytes read.
        end: As in `ChunkReader.end`.
        members: Of gzip: `SpanLines.first` and `.end`.
    """

    events: tuple[Event, ...]
    byte_count: int
    end: tuple[int, int] = (0, 0)
    members: tuple[int | None, int | None] = (None, None)


@dataclass(frozen=True, slots=True)
class PartRead:
    """What there is to tell of a part: piece by piece, or chunk by chunk where these were sent."""

    pieces: tuple[PieceRead, ...] = ()
    results: tuple[LightResult, ...] = ()


def together(results: Sequence[LightResult]) -> LightResult:
    """Return chunks of which nothing is to be told but counts as one result."""
    first, *others = results
    assert first.laid is not None
    laid = first.laid
    rows = {name: batch.num_rows for name, batch in laid.batches.items()}
    for other in others:
        more = other.laid
        assert more is not None
        for name, batch in more.batches.items():
            rows[name] += batch.num_rows
        laid.rejected += more.rejected
        laid.record_count += more.record_count
        for name in ("filtered", "left_out", "passed", "read", "gone", "unfit"):
            getattr(laid, name).update(getattr(more, name))
        laid.met |= more.met
    laid.batches = {name: LightRows(count) for name, count in rows.items()}
    counts = tuple(each.record_count for each in results)
    return replace(first, record_count=sum(counts), laid=laid, chunks=counts)
