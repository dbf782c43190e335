"""Evaluating JSONPath on the documents of a source, which are read one after the other and never kept."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field

from tessaron.core.base.errors import DataError, Place
from tessaron.core.base.faults import Fault
from tessaron.core.base.json_text import json_text, plain_value
from tessaron.core.base.parsed_values import Pairs, Parsed
from tessaron.core.base.paths import Location, format_location, format_path
from tessaron.core.cutting.json_splitting import Chunk
from tessaron.core.cutting.separator import Separator
from tessaron.core.kernel.contract import KernelOptions
from tessaron.core.kernel.record_reader import RecordReader
from tessaron.core.query.jsonpath import JsonPath, Match, Stream
from tessaron.core.query.jsonpath_evaluation import find_matches, holds
from tessaron.core.query.jsonpath_syntax import NameSelector, Segment, Wildcard
from tessaron.sources.inputs import ByteInput, Input, ObjectInput
from tessaron.sources.json_chunks import ChunkReader

SMALL_CHUNK_BYTES = 1024 * 1024
"""Bytes read at once: few, so that the first matches are there soon."""
WHOLE_DOCUMENTS = JsonPath("$", ())


class Found:
    """A match, with its place.

    Attributes:
        match: The match inside of what was parsed.
        before: The way to what was parsed, from the document.
        source: Name of the source.
        record: The document of the source (or the record, where records were asked for), from 1.
        line: The line where that begins, from 1; None when it came as objects.
    """

    __slots__ = ("before", "line", "match", "record", "source")

    def __init__(self, match: Match, before: Location, source: str, record: int, line: int | None):
        self.match = match
        self.before = before
        self.source = source
        self.record = record
        self.line = line

    @property
    def value(self) -> Parsed:
        """The value as plain Python, a fraction as Decimal."""
        return plain_value(self.match.value)

    @property
    def path(self) -> str:
        """Where it stands in its document (or record), as a normalized path (RFC 9535 section 2.7)."""
        return format_location(self.before + self.match.location)

    def json(self) -> str:
        """Return the value as compact JSON, with the digits of its numbers."""
        return json_text(self.match.value, ascii_only=False)

    def __repr__(self) -> str:
        return f"Found({self.source}, record {self.record}, {self.path} = {self.json()[:60]})"


@dataclass(slots=True)
class _Parsed:
    """A part of a document that was parsed, and which segments are still to be applied to it."""

    start: Match
    before: Location
    record: int
    line: int | None


@dataclass(slots=True)
class PathReader:
    """Evaluates a path on all documents of the inputs, once.

    Args:
        inputs: Where the documents come from.
        path: What is looked for.
        records: Where the records stand; `$` of `path` is each of them then, else each document.

    Attributes:
        counts: How many values each part of the path has matched, the document first. Where the pieces of a
            document are read one by one, the parts that lead to them are not counted.
        documents: Documents (or records) seen.
        heads: The first bytes of each source, to tell from why nothing matches.
        on_bytes: Is told how many more bytes were read.
    """

    inputs: list[Input]
    path: JsonPath
    records: JsonPath | None = None
    options: KernelOptions = field(default_factory=KernelOptions)
    counts: list[int] = field(default_factory=list)
    documents: int = 0
    heads: list[bytes] = field(default_factory=list)
    on_bytes: Callable[[int], None] = lambda count: None
    chunk_bytes: int = SMALL_CHUNK_BYTES

    def __iter__(self) -> Iterator[Found]:
        """Yield the matches in order.

        Raises:
            SourceError: When a source cannot be read.
            DataError: When it is not JSON.
        """
        self.counts = [0] * (len(self.path.segments) + 1)
        for entry in self.inputs:
            if isinstance(entry, ObjectInput):
                yield from self._among_objects(entry)
            elif self.records is None:
                yield from self._in_source(entry)
            else:
                yield from self._in_records(entry, self.records)

    def _among_objects(self, entry: ObjectInput) -> Iterator[Found]:
        for number, value in enumerate(entry.records, 1):
            self.documents += 1
            for match in find_matches(self.path.segments, Match(value), value, self.counts):
                yield Found(match, (), entry.name, number, None)

    def _in_source(self, entry: ByteInput) -> Iterator[Found]:
        stream = self.path.stream()
        reader = ChunkReader(
            entry,
            self.on_bytes,
            self.chunk_bytes,
            WHOLE_DOCUMENTS if stream is None else _path_to_all(stream.names),
            lines_are_documents=True,
            must_find=False,
        )
        before = self.documents
        for parsed in _parse_all(reader, entry.name, stream.names if stream else (), self.options):
            self.documents = max(self.documents, before + parsed.record)
            yield from self._in_part(parsed, entry.name, stream if reader.is_inside else None)
        self.heads.append(reader.head)
        if reader.is_inside:
            self.documents = before + reader.documents

    def _in_part(self, parsed: _Parsed, source: str, stream: Stream | None) -> Iterator[Found]:
        value = parsed.start.value
        segments = self.path.segments
        if stream is not None:
            segments = stream.rest
            if stream.condition is not None and not holds(stream.condition, value, None):
                return
        for match in find_matches(segments, parsed.start, value, self.counts):
            yield Found(match, parsed.before, source, parsed.record, parsed.line)

    def _in_records(self, entry: ByteInput, records: JsonPath) -> Iterator[Found]:
        inner = PathReader([entry], records, None, self.options, on_bytes=self.on_bytes)
        for number, record in enumerate(inner, 1):
            self.documents += 1
            value = record.match.value
            for match in find_matches(self.path.segments, Match(value), value, self.counts):
                yield Found(match, (), entry.name, number, record.line)
        self.heads += inner.heads


def _path_to_all(names: tuple[str, ...]) -> JsonPath:
    segments = (*(Segment((NameSelector(name),)) for name in names), Segment((Wildcard(),)))
    return JsonPath(format_path(names) + "[*]", segments)


def _parse_all(
    reader: ChunkReader, source: str, names: tuple[str, ...], options: KernelOptions
) -> Iterator[_Parsed]:
    """Yield each document, or what stands at the names in each where that is streamed."""
    records, index, document = 0, 0, -1
    for chunk in reader:
        if chunk.is_skeleton:
            continue
        if chunk.document != document:
            document, index = chunk.document, 0
        for value, line in parse_chunk(chunk, source, options, records):
            if not reader.is_inside:
                records += 1
                yield _Parsed(Match(value), (), records, line)
            elif chunk.is_members:
                name, member = value
                yield _Parsed(Match(member, name, _ROOT), names, max(document, 0) + 1, line)
            else:
                yield _Parsed(Match(value, index, _ROOT), names, max(document, 0) + 1, line)
                index += 1


_ROOT = Match(None)


def parse_chunk(
    chunk: Chunk, source: str, options: KernelOptions, records_before: int
) -> Iterator[tuple[Parsed, int]]:
    """Yield the records of a chunk with their lines; the members of an object as (name, value).

    Raises:
        DataError: At the first record that cannot be read.
    """
    data, separator, continues = chunk.data, chunk.separator, chunk.continues
    if chunk.is_members:
        data, separator, continues = chunk.as_object(), Separator.NOTHING, False
    reader = RecordReader(data, separator, continues, options)
    line, counted = chunk.line, 0
    for record in reader:
        line += data.count(b"\n", counted, record.byte_offset)
        counted = record.byte_offset
        if chunk.is_members:
            members = record.value
            yield from ((pair, line) for pair in (members if isinstance(members, Pairs) else members.items()))
        else:
            yield record.value, line
    if reader.faults:
        raise data_error(reader.faults[0], chunk, source, records_before)


def data_error(fault: Fault, chunk: Chunk, source: str, records_before: int) -> DataError:
    """Return the error that says where in the source a fault of a chunk stands."""
    place = Place(
        source,
        line=chunk.line_of(fault.byte_offset),
        byte_offset=chunk.byte_offset + fault.byte_offset,
        record=records_before + fault.record + 1,
        path=format_path(fault.path) if fault.path else None,
    )
    return DataError(fault.reason, place, fault.code)
