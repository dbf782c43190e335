"""Sources of XML as chunks of whole records: one feed, however many documents they stand in."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from typing import BinaryIO

from tessaron.core.base.errors import Code, DataError, Place, UsageError
from tessaron.core.cutting.enclosing import EnclosingElements
from tessaron.core.cutting.entity_weights import light_pieces
from tessaron.core.cutting.json_splitting import SplitError
from tessaron.core.cutting.record_elements import (
    LOOKED_AT_BYTES,
    Recognised,
    has_tag,
    known_prefixes,
    looks_plain,
    recognise_records,
)
from tessaron.core.cutting.xml_chunks import ChunkCollector, Piece, XmlChunk
from tessaron.core.cutting.xml_skeletons import MOST_AROUND_BYTES, Skeleton
from tessaron.core.cutting.xml_splitting import XmlSplitter
from tessaron.core.markup.namespaces import Prefixes
from tessaron.core.markup.record_path import ANY_ROOT, Name, RecordPath
from tessaron.core.query.xpath_location import LocationPath
from tessaron.sources.forms.encodings import utf8_blocks
from tessaron.sources.inputs import ByteInput
from tessaron.sources.xml_blocks import with_head

_SMALLEST_BLOCK = 64 * 1024
MOST_WHOLE_BYTES = 64 * 1024 * 1024
"""So long, at most, a document is to be a record by itself without being asked: it is held as a whole."""
_SAMPLES, _SAMPLE_BYTES = 64, 16 * 1024
"""So many parts of a file, of so many bytes, tell whether it is records throughout."""


@dataclass(slots=True)
class XmlSource:
    """What was read of one source.

    Attributes:
        name: What it is called.
        byte_count: Bytes read.
        records: Elements that are records, broken ones included.
        error: Why it was not read to its end; None if it was.
    """

    name: str
    byte_count: int = 0
    records: int = 0
    error: DataError | None = None


@dataclass(slots=True)
class XmlFeed:
    """Reads the documents of all inputs, once.

    Args:
        inputs: Where they come from.
        on_bytes: Is told how many more bytes were read.
        chunk_bytes: So many bytes of records make a chunk.
        location: Where the records stand; None to recognise it.
        prefixes: Learns the namespaces.
        keeps_documents: Whether the documents around the records are wanted.
        wants_above: Whether values of the elements above the records are wanted with them.
        keeps_order: Whether it is kept where records stand among others.
        keeps_beside: Whether a document that is a record, and alone in its source, comes with comments and
            instructions beside its outermost element.
        on_wrong: Is told of each document that is no record where documents are, with its text.

    Attributes:
        path: Where the records stand, once the first document was looked at.
        recognised: Whether that was recognised.
        sources: What was read of each input.
        documents: Documents that began.
        left_out: Comments and instructions around the records, by their node test.
        head: The first bytes of the first document.
        has_much_around: Whether the documents are the records as too much stands around what repeats in them.
    """

    inputs: Sequence[ByteInput]
    on_bytes: Callable[[int], None]
    chunk_bytes: int
    location: LocationPath | None = None
    prefixes: Prefixes = field(default_factory=Prefixes)
    keeps_documents: bool = True
    wants_above: bool = False
    keeps_order: bool = False
    keeps_beside: bool = False
    on_wrong: Callable[[DataError, bytes], None] | None = None
    path: RecordPath | None = None
    recognised: bool = False
    sources: list[XmlSource] = field(default_factory=list)
    documents: int = 0
    left_out: dict[str, int] = field(default_factory=dict)
    head: bytes = b""
    has_much_around: bool = False
    _splitter: XmlSplitter | None = None
    _collected: ChunkCollector | None = None
    _nearest: tuple[Name, ...] = ()
    _others: dict[Name, None] = field(default_factory=dict)
    _enclosing: EnclosingElements | None = None

    def __iter__(self) -> Iterator[XmlChunk]:
        """Yield chunks of records, and of documents without their records.

        Raises:
            SourceError: When a source cannot be read.
            UsageError: When the path to the records has a prefix that stands for nothing.
        """
        records = ChunkCollector(self.chunk_bytes)
        documents = self._collected = ChunkCollector(self.chunk_bytes)
        for number, entry in enumerate(self.inputs):
            source = XmlSource(entry.name)
            self.sources.append(source)
            try:
                for part in self._parts(entry, source):
                    if isinstance(part, Piece):
                        for piece, weight in light_pieces(part, self.chunk_bytes):
                            yield from records.add(piece, number, entry.name, self.prefixes, weight)
                    elif self.keeps_documents:
                        yield from map(
                            as_skeleton,
                            documents.add(_piece_of(part), number, entry.name, self.prefixes),
                        )
            except DataError as error:
                source.error = error
        yield from records.finish(self.prefixes)
        yield from map(as_skeleton, documents.finish(self.prefixes))

    def break_off(self) -> Iterator[XmlChunk]:
        """Yield the documents so far, the last as far as it was read, when no more records are wanted."""
        collector = self._collected
        if self._splitter is None or collector is None or not self.keeps_documents:
            return
        source = self.sources[-1]
        for part in self._splitter.break_off():
            if isinstance(part, Skeleton):
                pieces = collector.add(_piece_of(part), len(self.sources) - 1, source.name, self.prefixes)
                yield from map(as_skeleton, pieces)
        yield from map(as_skeleton, collector.finish(self.prefixes))

    def _parts(self, entry: ByteInput, source: XmlSource) -> Iterator[Piece | Skeleton]:
        def count(byte_count: int) -> None:
            source.byte_count += byte_count
            self.on_bytes(byte_count)

        block_bytes = max(self.chunk_bytes // 4, min(self.chunk_bytes, _SMALLEST_BLOCK))
        with entry.open() as stream:
            mark, blocks = utf8_blocks(entry.name, stream, block_bytes, count, heeds_declaration=True)
            head, is_all, blocks = with_head(entry.name, blocks)
            self.head = self.head or head
            if self.path is None:
                self._find_path(entry, head, is_all)
            assert self.path is not None
            splitter = self._splitter = XmlSplitter(
                self.path,
                self.prefixes,
                mark,
                self.documents,
                self.wants_above,
                self.keeps_order,
                self.keeps_beside,
                self._enclosing_of(self.path),
            )
            try:
                parts = self._checked(_read_through(splitter, blocks), entry.name)
                yield from _with_beside(parts, splitter) if self.keeps_beside else parts
            except SplitError as error:
                fault = error.fault
                place = Place(entry.name, line=fault.line, byte_offset=fault.byte_offset, column=fault.column)
                raise DataError(fault.reason, place, fault.code) from None
            finally:
                self.documents += splitter.documents
                source.records = splitter.records
                for test, found in splitter.around_counts.items():
                    self.left_out[test] = self.left_out.get(test, 0) + found
                if len(splitter.nearest) >= len(self._nearest):
                    self._nearest = splitter.nearest
                    self._others |= splitter.others

    def _enclosing_of(self, path: RecordPath) -> EnclosingElements:
        """Return what numbers the elements around the records, of all sources."""
        if self._enclosing is None:
            self._enclosing = EnclosingElements(path)
        return self._enclosing

    def _checked(self, parts: Iterator[Piece | Skeleton], name: str) -> Iterator[Piece | Skeleton]:
        """Pass parts on; where the documents are the records, one of another name is none."""
        assert self.path is not None
        for part in parts:
            if isinstance(part, Skeleton) and self.path.is_root:
                reason = (
                    f"the document is no record: expected {self.path.shown(self.prefixes)} outermost, "
                    f"found {_first_tag(part.data)}; "
                    "--records '/*' takes documents of any name"
                )
                error = DataError(reason, Place(name, part.line, part.byte_offset, column=1), Code.ROOT)
                if self.on_wrong is None:
                    raise error
                self.on_wrong(error, part.data)
                continue
            yield part

    def _find_path(self, entry: ByteInput, head: bytes, is_all: bool) -> None:
        known_prefixes(head[:LOOKED_AT_BYTES], self.prefixes)
        if self.location is not None:
            self.path = self.location.record_path(self.prefixes)
            return
        found = recognise_records(
            head[:LOOKED_AT_BYTES], is_all and len(head) <= LOOKED_AT_BYTES, len(self.inputs), entry.size
        )
        if self.keeps_documents and self._has_much_around(entry, found, len(head)):
            found = replace(found, path=RecordPath(found.path.tests[:1]))
            self.has_much_around = True
        if found.path is not ANY_ROOT:
            self.path, self.recognised = found.path, True
        else:
            # Nothing to go by in this one: whatever it is, the next may show more.
            self.path = found.path if len(self.inputs) == 1 else None
            if self.path is None:
                raise DataError("expected an XML document, found no element", Place(entry.name), Code.EMPTY)

    def _has_much_around(self, entry: ByteInput, found: Recognised, head_bytes: int) -> bool:
        """Say whether a file has more beside its records than is held, and is short enough to be one."""
        size = entry.size or 0
        if entry.path is None or found.path.is_root or not MOST_AROUND_BYTES < size <= MOST_WHOLE_BYTES:
            return False
        if found.count * _SAMPLE_BYTES < head_bytes * 4:
            # Records so long may have no tag of theirs in a sample.
            return False
        with open(entry.path, "rb") as file:
            samples = [_sample(file, at * size // _SAMPLES) for at in range(_SAMPLES)]
        local = found.path.tests[-1].local
        without = sum(not has_tag(sample, local) for sample in samples if looks_plain(sample))
        return without * size // _SAMPLES > MOST_AROUND_BYTES

    def check_found(self) -> None:
        """Check that there were records.

        Raises:
            UsageError: When no document had any, with how far the way to them led.
            DataError: When no document could be read.
        """
        if any(source.records for source in self.sources):
            return
        for source in self.sources:
            if source.error is not None:
                raise source.error
        if self.path is None:
            return
        way = "/" + "/".join(name.shown(self.prefixes) for name in self._nearest)
        others = [way.rstrip("/") + "/" + name.shown(self.prefixes) for name in list(self._others)[:5]]
        there = f"; there are {', '.join(others)}" if others else ""
        wanted = self.path.shown(self.prefixes)
        names = {name.local for name in self._others}
        hint = ""
        if any(test.namespace == "" and test.local in names for test in self.path.tests):
            hint = "; names in a namespace need its prefix"
        raise UsageError(
            f"{self.sources[0].name}: no records at {wanted}: the way leads to {way} and no further"
            f"{there}{hint}"
        )


def _read_through(splitter: XmlSplitter, blocks: Iterator[bytes]) -> Iterator[Piece | Skeleton]:
    for block in blocks:
        yield from splitter.feed(block)
    yield from splitter.finish()


def _with_beside(parts: Iterator[Piece | Skeleton], splitter: XmlSplitter) -> Iterator[Piece | Skeleton]:
    """Yield a document with the comments and instructions beside it; several as they are."""
    held = next(parts, None)
    if held is None:
        return
    following = next(parts, None)
    if following is None and isinstance(held, Piece) and len(held.starts) == 1:
        before, after = splitter.beside
        offset = max(0, held.byte_offset - len(before))
        yield replace(held, data=bytes(before) + held.data + bytes(after), byte_offset=offset)
        return
    yield held
    if following is not None:
        yield following
    yield from parts


def _sample(file: BinaryIO, at: int) -> bytes:
    file.seek(at)
    return file.read(_SAMPLE_BYTES)


def as_skeleton(chunk: XmlChunk) -> XmlChunk:
    """Return a chunk marked as documents without their records."""
    return XmlChunk(chunk.data, chunk.starts, chunk.runs, chunk.context, chunk.prefixes, True)


def _first_tag(data: bytes) -> str:
    return "<" + re.split(rb"[\s/>]", data[1:], maxsplit=1)[0].decode("utf-8", "replace") + ">"


def _piece_of(skeleton: Skeleton) -> Piece:
    return Piece(
        skeleton.data, [0], skeleton.byte_offset, skeleton.line, skeleton.document, skeleton.document,
        skeleton.context, outline=skeleton.outline,
    )  # fmt: skip
