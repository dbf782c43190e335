"""Records inside an envelope: recognised, and streamed out of documents of any size."""

from __future__ import annotations

import json
import re
from collections.abc import Generator, Iterable, Iterator
from dataclasses import dataclass, field
from typing import Any

from tessaron.core.base.errors import Code
from tessaron.core.base.faults import Fault
from tessaron.core.base.paths import format_path
from tessaron.core.cutting.json_splitting import (
    Chunk,
    Cursor,
    OuterForm,
    RegionSplitter,
    SplitError,
    choose_scan,
)
from tessaron.core.cutting.scan_state import ScanState
from tessaron.core.cutting.separator import Separator

MOST_AROUND = 200
"""So many scalars, at most, stand around the records of an envelope."""
MOST_AROUND_BYTES = 16 * 1024 * 1024
"""So many bytes, at most, are kept of a document without its records."""
DEEPEST = 4
"""So many objects deep, at most, stand the records of a recognised envelope."""
USUAL_NAMES = frozenset(
    ("items", "data", "results", "records", "rows", "entries", "list", "content", "elements", "documents")
)
"""An array of one of these names is taken for the records even with a single element."""

_ENOUGH_ELEMENTS = 2
"""So many elements show that there are several."""
_TOKEN = re.compile(rb'"(?:[^"\\]|\\.)*"|["{}\[\],:]', re.DOTALL)
"""A whole text, or a single character; a lone quote begins a text that goes on in the next block."""
_BEHIND_NAME = re.compile(rb"[ \t\r\n]*(.?)", re.DOTALL)


def recognise_envelope(head: bytes, is_whole: bool) -> tuple[str, ...] | None:
    """Return the names that lead to the records, if the document that begins `head` is an envelope.

    An envelope is one object in which a single array of objects stands, with nothing but scalars, small
    objects and arrays of scalars around it.

    Args:
        head: The first bytes of the source.
        is_whole: Whether they are all.
    """
    outline = _outline_of(head, is_whole)
    if outline is None or len(outline.arrays) != 1:
        return None
    ((names, elements),) = outline.arrays.items()
    usual = bool(names) and names[-1].lower() in USUAL_NAMES
    return names if names and (elements > 1 or (usual and elements)) else None


def agreed_envelope(heads: Iterable[tuple[bytes, bool]]) -> tuple[str, ...] | None:
    """Return the names that lead to the records in several sources; None where documents are the records.

    All of them have to be envelopes of the same form; one may have a single record, or none. Where one is
    not, an array in the others is no envelope either, but something that the documents have.

    Args:
        heads: The first bytes of each source, and whether they are all.
    """
    found: set[tuple[str, ...]] = set()
    met: set[tuple[str, ...]] = set()
    for head, is_whole in heads:
        names = recognise_envelope(head, is_whole)
        outline = _outline_of(head, is_whole)
        if outline is None:
            return None
        found |= {names} if names is not None else set()
        met |= outline.arrays.keys()
        if len(met) > 1:
            return None
    return next(iter(found)) if found == met and len(found) == 1 else None


def _outline_of(head: bytes, is_whole: bool) -> _Outline | None:
    """Return what stands in the document that begins `head`; None for too much, or several."""
    first = head.find(b"[")
    if first < 0:
        first = len(head)
    # At the first glance: so many names, those in texts that are JSON not counted.
    if head.count(b'":', 0, first) - head.count(b'\\":', 0, first) > MOST_AROUND:
        return None
    outline = _Outline()
    try:
        ended = outline.read(head)
    except ValueError:
        return None
    if ended is None and is_whole:
        return None
    if ended is not None and (not is_whole or head[ended:].strip()):
        return None
    return None if outline.scalars > MOST_AROUND else outline


@dataclass(slots=True)
class _Outline:
    """What stands in a document outside of arrays: arrays with objects in them, and how much is around."""

    arrays: dict[tuple[str, ...], int] = field(default_factory=dict)
    scalars: int = 0
    stack: list[Any] = field(default_factory=list)

    def read(self, head: bytes) -> int | None:
        """Read the document; return where it ends, or None if it does not.

        Raises:
            ValueError: When it is no object, or no envelope for sure.
        """
        names: list[bytes] = []
        name = b""
        at = 0
        while (token := _TOKEN.search(head, at)) is not None:
            text, at = token.group(), token.end()
            if text == b"{":
                self.stack.append("{")
                names.append(name)
            elif text == b"[":
                if not self.stack or len(names) > DEEPEST:
                    raise ValueError("no envelope")
                at = self._read_array(head, at, tuple(map(_name_of, (*names[1:], name))))
                if at < 0:
                    return None
            elif text in (b"}", b"]"):
                if not self.stack:
                    raise ValueError("no document")
                self.stack.pop()
                names.pop()
                if not self.stack:
                    return at
            elif text == b":":
                self.scalars += 1
                if self.scalars > MOST_AROUND:
                    raise ValueError("no envelope")
            elif text == b'"':
                return None
            elif text[:1] == b'"' and _behind(head, at) == b":":
                name = text
        return None

    def _read_array(self, head: bytes, at: int, path: tuple[str, ...]) -> int:
        """Pass over an array that begins before `at`; count its first objects. Return its end, or -1."""
        scan, view = choose_scan(), memoryview(head)
        for _ in range(_ENOUGH_ELEMENTS):
            if _behind(head, at) != b"{":
                break
            self.arrays[path] = self.arrays.get(path, 0) + 1
            if len(self.arrays) > 1:
                raise ValueError("no envelope")
            _, closing = scan(view[head.index(b"{", at) + 1 :], ScanState(), True)
            if closing < 0:
                return -1
            at = head.index(b"{", at) + 2 + closing
            if _behind(head, at) != b",":
                break
            at = head.index(b",", at) + 1
        _, closing = scan(view[at:], ScanState(), True)
        return at + closing + 1 if closing >= 0 else -1


def _behind(data: bytes, at: int) -> bytes:
    """Return the next character that is no space; empty at the end."""
    found = _BEHIND_NAME.match(data, at)
    return found.group(1) if found else b""


def _name_of(text: bytes) -> str:
    """Return the name that stands in quotes."""
    return str(json.loads(text.decode("utf-8", "replace"), strict=False))


class EnvelopeSplitter:
    """Takes blocks of bytes of one source; gives the records out of its documents, and the documents without.

    A document around more than `MOST_AROUND_BYTES` beside its records is given as an empty chunk.

    Attributes:
        documents: How many documents ended.
        found: How many of them had the array (or object) of the records.
        nearest: The longest part of the way to the records that some document had.
        others: Names that stood where the way went no further.
    """

    def __init__(self, names: tuple[str, ...], byte_offset: int = 0):
        self._names = names
        self._cursor = Cursor(byte_offset)
        self._region: RegionSplitter | None = None
        self._skeleton = bytearray()
        self._skeleton_place = (byte_offset, 1)
        self._pending = b""
        self._stack: list[tuple[bytes, str | None]] = []
        self._name: str | None = None
        self.documents = 0
        self._beside: ScanState | None = None
        self._scan = choose_scan()
        self.found = 0
        self._found_before = 0
        self.nearest: tuple[str, ...] = ()
        self.others: dict[str, None] = {}

    def feed(self, block: bytes) -> Iterator[Chunk]:
        """Yield the chunks of whole records that end in `block`, and the documents that do."""
        rest: bytes | None = block
        while rest:
            if self._region is not None:
                chunks, rest = self._region.feed(rest)
                yield from chunks
                if rest is not None:
                    self._region = None
            else:
                rest = yield from self._read_skeleton(rest)

    def finish(self) -> Iterator[Chunk]:
        """Yield what is left at the end of the source.

        Raises:
            SplitError: When the source ends inside the records.
        """
        if self._region is None:
            rest = yield from self._read_skeleton(b"", final=True)
            yield from self.feed(rest)
        if self._region is not None:
            yield from self._region.finish()
            reason = f"the source ends inside {format_path(self._names)}; fetch the file again"
            raise SplitError(Fault(Code.TRUNCATED, self._cursor.byte_offset, reason))
        if self._skeleton.strip():
            yield self._document_chunk()

    def _read_skeleton(self, block: bytes, final: bool = False) -> Generator[Chunk, None, bytes]:
        """Read up to the records or the end of the document; return what is left of the block."""
        data, self._pending = self._pending + block, b""
        at = 0
        if self._beside is not None:
            at = self._skip_beside(data, 0)
            if self._beside is not None:
                return b""
        while True:
            token = _TOKEN.search(data, at)
            text = token.group() if token else b""
            is_text = text[:1] == b'"'
            if token is None or text == b'"' or (is_text and not final and not _behind(data, token.end())):
                cut = len(data) if token is None or final else token.start()
                self._pass(data[:cut])
                self._pending = data[cut:]
                return b""
            at = token.end()
            if is_text:
                if self._stack and self._stack[-1][0] == b"{" and _behind(data, at) == b":":
                    self._name = _name_of(text)
                    self._note_name()
            elif text in (b"{", b"["):
                if self._is_target():
                    return self._open_region(data, at, text)
                self._stack.append((text, self._name))
                self._name = None
                if self._is_beside():
                    self._pass(data[:at])
                    data, at = data[at:], 0
                    self._beside = ScanState()
                    at = self._skip_beside(data, 0)
                    if self._beside is not None:
                        return b""
            elif text in (b"}", b"]") and self._stack:
                self._stack.pop()
                if not self._stack:
                    self._pass(data[:at])
                    yield self._document_chunk()
                    return data[at:]

    def _is_beside(self) -> bool:
        """Say whether what has just been opened is not on the way to the records."""
        way = self._way()
        is_array = any(kind == b"[" for kind, _ in self._stack)
        return len(self._stack) > 1 and (is_array or way != self._names[: len(way)])

    def _skip_beside(self, data: bytes, at: int) -> int:
        """Pass over what is not on the way; return where it closes, or pass over all there is."""
        assert self._beside is not None
        _, closing = self._scan(data[at:], self._beside, True)
        if closing < 0:
            self._pass(data)
            return len(data)
        self._beside = None
        return at + closing

    def _way(self) -> tuple[str, ...]:
        return tuple(name for _, name in self._stack[1:] if name is not None)

    def _note_name(self) -> None:
        way = self._way()
        if any(kind == b"[" for kind, _ in self._stack) or way != self._names[: len(way)]:
            return
        if len(way) < len(self._names) and self._name == self._names[len(way)]:
            if len(way) >= len(self.nearest):
                self.nearest = (*way, self._name)
                self.others.clear()
        elif len(way) == len(self.nearest) and self._name is not None and len(self.others) < 20:
            self.others[self._name] = None

    def _is_target(self) -> bool:
        if any(kind == b"[" for kind, _ in self._stack):
            return False
        if not self._stack:
            return not self._names
        return (*self._way(), self._name) == self._names

    def _open_region(self, data: bytes, at: int, bracket: bytes) -> bytes:
        self._pass(data[:at])
        self.found += 1
        self._stack.append((bracket, self._name))
        form = OuterForm.ARRAY if bracket == b"[" else OuterForm.MEMBERS
        self._region = RegionSplitter(form, self._cursor, self.documents)
        return data[at:]

    def _pass(self, data: bytes) -> None:
        if not self._skeleton:
            self._skeleton_place = (self._cursor.byte_offset, self._cursor.line)
        if len(self._skeleton) <= MOST_AROUND_BYTES:
            self._skeleton += data
        self._cursor.pass_over(data)

    def _document_chunk(self) -> Chunk:
        byte_offset, line = self._skeleton_place
        data = bytes(self._skeleton)
        if len(data) > MOST_AROUND_BYTES:
            data = b"" if self._found_before < self.found else b"{}"
        self._found_before = self.found
        chunk = Chunk(data, Separator.NOTHING, False, byte_offset, line, self.documents, is_skeleton=True)
        self._skeleton.clear()
        self.documents += 1
        self._name = None
        return chunk
