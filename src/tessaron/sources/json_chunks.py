"""From the bytes of a source to chunks of whole JSON records."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, cast

from tessaron.core.base.errors import Code, DataError, Place, TessaronError, UsageError
from tessaron.core.base.paths import format_path
from tessaron.core.cutting.envelope import EnvelopeSplitter, agreed_envelope, recognise_envelope
from tessaron.core.cutting.json_splitting import Chunk, OuterForm, RecordSplitter, SplitError, recognise_form
from tessaron.sources.forms.encodings import Guarded, utf8_blocks
from tessaron.sources.forms.limits import record_limit
from tessaron.sources.inputs import ByteInput, Input

if TYPE_CHECKING:
    from tessaron.core.query.jsonpath import JsonPath

CHUNK_BYTES = 6 * 1024 * 1024
"""Bytes read at once: the unit of work, and what bounds memory."""
HEAD_BYTES = 1024 * 1024
"""Bytes looked at to recognise how the records stand; the same for every size of chunks."""
_SEVERAL, _LOOKED_AT = 2, 32
"""So many sources, at least, have to agree where the records stand, and so many of them are looked at."""
_BLANK = b" \t\r\n"
_RECORD_SEPARATOR = b"\x1e"


@dataclass(frozen=True, slots=True)
class RecordsAt:
    """Where the records stand in the documents of a source.

    Attributes:
        form: How documents or records stand.
        names: The names on the way to the records inside each document; None when the documents are the
            records.
        recognised: Whether this was recognised, not given.
    """

    form: OuterForm
    names: tuple[str, ...] | None = None
    recognised: bool = False


@dataclass(frozen=True, slots=True)
class Agreed:
    """Where the records stand in several sources: the names on the way, None where documents are records."""

    names: tuple[str, ...] | None


class ChunkReader:
    """Reads one source as chunks of whole records, in order.

    Args:
        source: The source.
        on_bytes: Is told how many more bytes were read.
        chunk_bytes: Bytes read at once.
        path: Where the records stand, as names and a wildcard, or `$`; else it is recognised.
        lines_are_documents: Whether the lines of JSON Lines are given whole, whatever the path.
        must_find: Whether it is an error when no document has what the path names.
        agreed: Where the records stand, for a source among several that agree; see `agreed_place`.

    Attributes:
        place: Where the records stand; known once the first chunk was asked for.
        head: The first bytes of the source, as UTF-8.
        documents: At the end: how many documents were looked into for the records.
        end: Of a span, at the end: its bytes of UTF-8, and the line ends among them.
        missing: At the end: how far the way to the records led, where no document has them; else empty.
    """

    def __init__(
        self,
        source: ByteInput,
        on_bytes: Callable[[int], None],
        chunk_bytes: int,
        path: JsonPath | None,
        lines_are_documents: bool = False,
        must_find: bool = True,
        agreed: Agreed | None = None,
    ):
        self.place: RecordsAt | None = None
        self.head = b""
        self.documents = 0
        self.missing = ""
        self.end = (0, 0)
        self._lines_are_documents = lines_are_documents
        self._must_find = must_find and (agreed is None or path is not None)
        self._agreed = agreed
        self._source = source
        self._on_bytes = on_bytes
        self._chunk_bytes = chunk_bytes
        self._path = path

    @property
    def is_inside(self) -> bool:
        """Whether the chunks come from inside documents; known once the first was asked for."""
        return self.place is not None and (self.place.names is not None or self.place.form is OuterForm.ARRAY)

    def __iter__(self) -> Iterator[Chunk]:
        """Yield the chunks.

        Raises:
            SourceError: When reading fails.
            DataError: When there is no JSON in it, or its outer form is broken.
            UsageError: When no document has what the path to the records names.
        """
        with self._source.open() as stream:
            span = self._source.span
            if span is None:
                skipped, blocks = utf8_blocks(self._source.name, stream, self._chunk_bytes, self._on_bytes)
            else:
                guarded = Guarded(self._source.name, stream)
                self._on_bytes(span.stop - span.start)
                skipped, blocks = 0, _filled(guarded, self._chunk_bytes)
            broken: list[DataError] = []
            blocks = _until_broken(blocks, broken)
            head, is_whole = _head(blocks) if span is None else (b"", False)
            if head.lstrip(_BLANK).startswith(_RECORD_SEPARATOR):
                head, blocks = _without_separators(head), map(_without_separators, blocks)
            self.head = head
            self.place = RecordsAt(OuterForm.LINES)
            if span is None:
                self.place = _place_of(head, is_whole, self._path, self._agreed)
            if self.place is not None and self.place.form is OuterForm.LINES and self._lines_are_documents:
                self.place = RecordsAt(OuterForm.LINES)
            if self.place is None:
                raise (
                    broken[0]
                    if broken
                    else DataError(
                        "the source is empty; expected a JSON array, a JSON object, or one object per line",
                        Place(self._source.name),
                        Code.EMPTY,
                    )
                )
            splitter = _splitter(self.place, skipped)
            try:
                for block in _sliced(head, blocks, self._chunk_bytes):
                    yield from splitter.feed(block)
                yield from splitter.finish()
            except SplitError as error:
                if broken:
                    raise broken[0] from None
                fault = error.fault
                place = Place(self._source.name, byte_offset=fault.byte_offset)
                raise DataError(fault.reason, place, fault.code) from None
            if broken:
                raise broken[0]
            if span is not None and isinstance(splitter, RecordSplitter):
                self.end = splitter.end()
        if isinstance(splitter, EnvelopeSplitter):
            self.documents = splitter.documents
            if not splitter.found:
                self.missing = _nothing_found(self._source.name, splitter, self.place.names or ())
        if self._must_find and self.missing:
            raise UsageError(self.missing)


def _filled(stream: Guarded, block_bytes: int) -> Iterator[bytes]:
    """Yield a stream that gives less than it is asked for in full blocks, what is before a fault too."""
    pieces: list[bytes] = []
    size = 0
    try:
        while piece := stream.read(block_bytes - size):
            pieces.append(piece)
            size += len(piece)
            if size >= block_bytes:
                yield b"".join(pieces)
                pieces, size = [], 0
    except DataError:
        yield b"".join(pieces)
        raise
    if pieces:
        yield b"".join(pieces)


def _until_broken(blocks: Iterator[bytes], broken: list[DataError]) -> Iterator[bytes]:
    """Yield blocks up to where they cannot be read any more; `broken` is given the reason then."""
    try:
        yield from blocks
    except DataError as error:
        broken.append(error)


def _place_of(
    head: bytes, is_whole: bool, path: JsonPath | None, agreed: Agreed | None = None
) -> RecordsAt | None:
    form = recognise_form(head)
    if form is None:
        return None
    if path is not None:
        names = path.plain_names()
        if names == () and form is OuterForm.ARRAY:
            return RecordsAt(form)
        return RecordsAt(OuterForm.VALUES if form is OuterForm.ARRAY else form, names)
    if form is OuterForm.ARRAY:
        return RecordsAt(form)
    names = recognise_envelope(head, is_whole) if agreed is None else agreed.names
    return RecordsAt(form, names, names is not None)


def agreed_place(sources: Sequence[Input]) -> Agreed | None:
    """Return where the records stand in all of several sources, by the first bytes of the first of them.

    An array of records is no envelope. None where each source is to be looked at by itself: there is
    only one, or some can be read once only.
    """
    if len(sources) < _SEVERAL or not all(
        isinstance(each, ByteInput) and each.stream is None for each in sources
    ):
        return None
    heads, has_array = [], False
    for source in sources[:_LOOKED_AT]:
        try:
            head, is_whole = _head_of(cast("ByteInput", source))
        except TessaronError:
            # It is told when it is read.
            continue
        form = recognise_form(head)
        has_array |= form is OuterForm.ARRAY
        if form not in (None, OuterForm.ARRAY):
            heads.append((head, is_whole))
    return Agreed(None if has_array or not heads else agreed_envelope(heads))


def records_at(source: ByteInput, path: JsonPath | None, agreed: Agreed | None) -> RecordsAt | None:
    """Return where the records stand in a source, by its first bytes, as `ChunkReader` finds it.

    Raises:
        SourceError, DataError: When it cannot be read.
    """
    head, is_whole = _head_of(source)
    return _place_of(head, is_whole, path, agreed)


def _head_of(source: ByteInput) -> tuple[bytes, bool]:
    with source.open() as stream:
        _, blocks = utf8_blocks(source.name, stream, HEAD_BYTES, lambda count: None)
        return _head(blocks)


def _splitter(place: RecordsAt, byte_offset: int) -> RecordSplitter | EnvelopeSplitter:
    if place.names is None:
        return RecordSplitter(place.form, byte_offset, record_limit())
    return EnvelopeSplitter(place.names, byte_offset)


def _without_separators(block: bytes) -> bytes:
    """Turn the record separators of a text sequence (RFC 7464) into spaces, which JSON texts ignore."""
    return block.replace(_RECORD_SEPARATOR, b" ")


def _head(blocks: Iterator[bytes]) -> tuple[bytes, bool]:
    """Return the first bytes with something in them, and whether they are all."""
    head = bytearray()
    for block in blocks:
        head += block
        if len(head) >= HEAD_BYTES and bytes(head).strip(_BLANK):
            return bytes(head), False
    return bytes(head), True


def _sliced(head: bytes, blocks: Iterator[bytes], chunk_bytes: int) -> Iterator[bytes]:
    for start in range(0, len(head), chunk_bytes):
        yield head[start : start + chunk_bytes]
    yield from blocks


def _nothing_found(source: str, splitter: EnvelopeSplitter, names: tuple[str, ...]) -> str:
    wanted = format_path(names) + "[*]"
    nearest = format_path(splitter.nearest)
    others = ", ".join(format_path((*splitter.nearest, name)) for name in list(splitter.others)[:5])
    there = f"; there are {others}" if others else ""
    return f"{source}: no records at {wanted}: the way leads to {nearest} and no further{there}"
