"""The first half of the work on a chunk, parsing: a pure function that any thread can run."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from itertools import pairwise
from typing import TYPE_CHECKING, Any

import numpy as np
import pyarrow as pa

from tessaron.core.base.errors import UsageError
from tessaron.core.base.paths import ENCLOSING, Origin
from tessaron.core.base.text_lane import TextLane
from tessaron.core.cutting.json_splitting import Chunk
from tessaron.core.cutting.separator import Separator
from tessaron.core.kernel import choose_kernel
from tessaron.core.kernel.contract import KernelOptions, XmlOptions
from tessaron.core.tape.fragment import Fragment
from tessaron.core.tape.gathering import Gathered, gather
from tessaron.core.tape.record_places import RecordPlaces
from tessaron.core.tape.tape import Tape, known_of_records, members_as_records

if TYPE_CHECKING:
    from tessaron.core.cutting.xml_chunks import XmlChunk


@dataclass(frozen=True, slots=True)
class ReadTask:
    """The first half: parse one chunk.

    Attributes:
        chunk: The records.
        kernel: Name of the kernel.
        options: What the kernel has to know.
        file: Name of the source if the rows are to say where they come from, else None.
        content: Whether the digest of each record's text is wanted, for digest keys.
        profiled: Name of the source if the profile of every path is wanted, else None.
        most_records: So many records of the chunk are wanted; None for all.
        xml: What the kernel has to know of XML.
        document_key: The number of the document the records stand in, from 1; None when that is not kept.
        gathered: Trees whose nodes come together.
        tells_names: Whether rows are to say how the elements that are the records are called.
    """

    chunk: Chunk | XmlChunk
    kernel: str
    options: KernelOptions
    file: str | None = None
    content: bool = False
    document_key: int | None = None
    profiled: str | None = None
    most_records: int | None = None
    xml: XmlOptions = field(default_factory=XmlOptions)
    tells_names: bool = False
    gathered: Sequence[Gathered] = ()


def repeated_offsets(read: Fragment | Tape) -> list[int]:
    """Return where the records with a repeated name begin in the chunk, in bytes."""
    return [int(read.offsets[found.record]) for found in read.repeated] if len(read.offsets) else []


def read_tape(task: ReadTask) -> tuple[Tape, bool]:
    """Return the tape of a chunk, with what is known of its records, and whether records were left over."""
    chunk = task.chunk
    if not isinstance(chunk, Chunk):
        return _read_xml(task, chunk)
    kernel = choose_kernel(task.kernel)
    is_cut = False
    if chunk.is_members:
        tape = kernel(chunk.as_object(), Separator.NOTHING, False, task.options)
        if not tape.faults:
            tape = members_as_records(tape)
    else:
        tape = kernel(chunk.data, chunk.separator, chunk.continues, task.options)
        if task.most_records is not None and tape.record_count > task.most_records:
            data = chunk.data[: int(tape.offsets[task.most_records])].rstrip(b", \t\r\n")
            tape, is_cut = kernel(data, chunk.separator, chunk.continues, task.options), True
    _add_origins(tape, task)
    return gather(tape, task.gathered), is_cut


def _read_xml(task: ReadTask, chunk: XmlChunk) -> tuple[Tape, bool]:
    from tessaron.core.cutting.xml_chunks import element_names
    from tessaron.core.kernel.xml_kernel import read_xml

    is_cut = task.most_records is not None and len(chunk.starts) > task.most_records
    wanted = chunk.first(task.most_records) if is_cut and task.most_records is not None else chunk
    tape = read_xml(wanted, task.xml)
    which = chunk.runs_of(tape.offsets)
    documents = np.array([run.document for run in chunk.runs], np.int64)[which]
    with_lines = task.file is not None or task.profiled is not None
    lines = chunk.lines_of(tape.offsets) if with_lines else None
    known: dict[Origin, Any] = {}
    if task.document_key is not None:
        known[Origin.DOCUMENT] = documents
        enclosing = np.array([run.enclosing for run in chunk.runs], np.int64)[which]
        known.update(zip(ENCLOSING, enclosing.T, strict=False))
    if lines is not None:
        known[Origin.LINE] = lines
    if task.file is not None:
        known[Origin.RECORD] = chunk.numbers_of(tape.offsets)
        known[Origin.NUMBER] = documents
        files = pa.array([run.name for run in chunk.runs], pa.large_string())
        _add_text_origin(tape, Origin.FILE, TextLane.of(files.take(pa.array(which))))
    if task.content:
        _add_text_origin(tape, Origin.CONTENT, _content_lane(chunk.data, tape.offsets))
    if task.tells_names:
        names = tape.element_names if task.xml.location else element_names(wanted, tape.offsets)
        _add_text_origin(tape, Origin.ELEMENT, TextLane.of(names))
    _add_integer_origins(tape, known)
    tape.run_counts = chunk.counts_of(tape.offsets)
    if task.profiled is not None:
        sources = [run.name for run in chunk.runs]
        tape.places = RecordPlaces(task.profiled, lines, tuple(sources[index] for index in which.tolist()))
    return tape, is_cut


def _add_text_origin(tape: Tape, name: Origin, texts: TextLane) -> None:
    tape.origins.append(known_of_records(name, tape.record_count, texts=texts))


def _add_integer_origins(tape: Tape, known: Mapping[Origin, Any]) -> None:
    for name, values in known.items():
        integers = np.asarray(values, np.int64)
        tape.origins.append(known_of_records(name, tape.record_count, integers=integers))


def _add_origins(tape: Tape, task: ReadTask) -> None:
    assert isinstance(task.chunk, Chunk)
    count = tape.record_count
    known: dict[Origin, Any] = {}
    if task.document_key is not None:
        known[Origin.DOCUMENT] = np.full(count, task.document_key, np.int64)
    if task.content:
        if len(tape.offsets) != count:
            raise UsageError("digest keys of these records need a natural key; name its columns with --key")
        _add_text_origin(tape, Origin.CONTENT, _content_lane(task.chunk.data, tape.offsets))
    if (task.file is not None or task.profiled is not None) and len(tape.offsets) == count:
        breaks = np.flatnonzero(np.frombuffer(task.chunk.data, np.uint8) == ord("\n"))
        known[Origin.LINE] = task.chunk.line + np.searchsorted(breaks, tape.offsets)
    sources = task.chunk.sources
    if sources and Origin.LINE in known:
        # Each begins its file.
        known[Origin.LINE] = np.ones(count, np.int64)
    if task.file is not None:
        known[Origin.RECORD] = (
            np.ones(count, np.int64) if sources else np.arange(1, count + 1, dtype=np.int64)
        )
        _add_text_origin(tape, Origin.FILE, TextLane.of(sources or [task.file] * count))
    _add_integer_origins(tape, known)
    if task.profiled is not None:
        tape.places = RecordPlaces(task.profiled, known.get(Origin.LINE))


def _content_lane(data: bytes, offsets: Any) -> TextLane:
    """Return for each record of a chunk the BLAKE2b digest of its text, in hexadecimal.

    `offsets` says where each record begins; what separates it from the next does not count.
    """
    bounds = [*offsets.tolist(), len(data)]
    texts = [
        hashlib.blake2b(data[start:stop].rstrip(b", \t\r\n"), digest_size=16).hexdigest()
        for start, stop in pairwise(bounds)
    ]
    return TextLane.of(texts)
