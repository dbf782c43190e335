"""Cutting a stream of bytes into chunks of whole JSON records, without parsing them.

Only quotes, brackets and commas are looked at, on whole blocks at once; what is between them is the
kernel's business. A block may end anywhere, also inside an escape.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from enum import Enum
from importlib.util import find_spec

from tessaron.core.base.errors import Code
from tessaron.core.base.faults import Fault
from tessaron.core.base.visible import in_quotes
from tessaron.core.cutting.scan_state import ScanState
from tessaron.core.cutting.separator import Separator

_NOT_SPACE = re.compile(rb"[^ \t\r\n]")
_SCALAR = re.compile(rb'"(?:[^"\\]|\\.)*"|[^\s"{}\[\],]+')
_LINES_LOOKED_AT = 20
_BYTES_LOOKED_AT = 1024 * 1024


RECORD_LIMIT = 1024**3
"""The most bytes of one record unless told otherwise."""


class OuterForm(Enum):
    """How the documents or records stand in a source."""

    LINES = "JSON Lines"
    ARRAY = "one array"
    VALUES = "one document, or documents one after another"
    MEMBERS = "the members of one object"


@dataclass(frozen=True, slots=True)
class Chunk:
    """Bytes of whole records, with their place in the source.

    Attributes:
        data: The records, separators between them included.
        separator: What stands between them.
        continues: Whether records of the same array stand before `data`.
        byte_offset: Where `data` begins in the source, in bytes from 0.
        line: The line of the source in which `data` begins, from 1.
        document: The document of the source in which the records stand, from 0; -1 when it does not matter.
        is_members: Whether `data` is members of an object, `"name": value`, separated by commas.
        is_skeleton: Whether `data` is a document without the records that stood inside it.
        sources: The source of each record, where each is one of its own.
    """

    data: bytes
    separator: Separator
    continues: bool
    byte_offset: int
    line: int
    document: int = -1
    is_members: bool = False
    is_skeleton: bool = False
    sources: tuple[str, ...] = ()

    def line_of(self, at: int) -> int:
        """Return the line of the source in which a byte of `data` stands, from 1."""
        return self.line + self.data.count(b"\n", 0, at)

    def as_object(self) -> bytes:
        """Return the members of an object as one object, in which every byte has the place it had."""
        if not self.continues:
            return b"{" + self.data + b"}"
        comma = self.data.index(b",")
        return self.data[:comma] + b"{" + self.data[comma + 1 :] + b"}"


def recognise_form(head: bytes) -> OuterForm | None:
    """Return how the records stand, judged from the first bytes of a source; None if these are blank.

    One array is one document whose elements are the records. When half of the first lines hold whole
    values of their own, it is JSON Lines, also if some are broken.
    """
    start = _NOT_SPACE.search(head)
    if start is None:
        return None
    if head[start.start() : start.end()] == b"[" and not _is_followed(head):
        return OuterForm.ARRAY
    head = head[:_BYTES_LOOKED_AT]
    lines = [line.strip(b" \t\r") for line in head[start.start() :].split(b"\n", _LINES_LOOKED_AT)]
    lines = [line for line in lines[:_LINES_LOOKED_AT] if line]
    whole = sum(map(_is_whole, lines))
    return (
        OuterForm.LINES
        if 2 * whole >= len(lines) and (_is_whole(lines[0]) or whole > 1)
        else OuterForm.VALUES
    )


def _is_followed(head: bytes) -> bool:
    from tessaron.core.cutting.block_scan import first_value_is_followed

    return first_value_is_followed(head)


def _is_whole(line: bytes) -> bool:
    """Say whether a line is one scalar, or its brackets and quotes are balanced and it ends in a bracket."""
    if line[:1] not in (b"{", b"["):
        return _SCALAR.fullmatch(line) is not None
    state = ScanState()
    choose_scan()(line, state, False)
    return not state.in_text and state.depth == 0 and line[-1:] in (b"}", b"]")


def scan_block_fast(block: bytes | memoryview, state: ScanState, on_comma: bool) -> tuple[int, int]:
    """Do what `scan_block` does, compiled."""
    from tessaron.core.compiled import _fastjson

    cut, closing, in_text, escaping, state.depth = _fastjson.scan(
        block, int(state.in_text), int(state.escaping), state.depth, 0, int(on_comma)
    )
    state.in_text, state.escaping = bool(in_text), bool(escaping)
    return cut, closing


def choose_scan() -> Callable[[bytes | memoryview, ScanState, bool], tuple[int, int]]:
    """Return the compiled scan where it is there."""
    if find_spec("tessaron.core.compiled._fastjson"):
        return scan_block_fast
    from tessaron.core.cutting.block_scan import scan_block

    return scan_block


class SplitError(Exception):
    """Carries the `Fault` of a source whose outer form is broken; `byte_offset` counts from its start."""

    def __init__(self, fault: Fault):
        super().__init__(fault.reason)
        self.fault = fault


@dataclass(slots=True)
class Cursor:
    """A place in a source: bytes from 0, lines from 1."""

    byte_offset: int = 0
    line: int = 1

    def pass_over(self, data: bytes) -> None:
        """Move behind `data`."""
        self.byte_offset += len(data)
        self.line += data.count(b"\n")


_SEPARATOR_OF = {
    OuterForm.LINES: Separator.LINE,
    OuterForm.ARRAY: Separator.COMMA,
    OuterForm.MEMBERS: Separator.COMMA,
    OuterForm.VALUES: Separator.NOTHING,
}


class RegionSplitter:
    """Takes blocks of bytes of a region of records, gives chunks of whole records.

    For `ARRAY` and `MEMBERS` the region is what stands between the brackets. A record longer than a block is
    collected until it is whole; nothing is scanned twice.
    """

    def __init__(self, form: OuterForm, cursor: Cursor, document: int = -1, record_limit: int = RECORD_LIMIT):
        self._record_limit = record_limit
        self._kept_bytes = 0
        self._form = form
        self._cursor = cursor
        self._document = document
        self._scan = choose_scan()
        self._state = ScanState()
        self._kept: list[bytes] = []
        self._continues = False

    def feed(self, block: bytes) -> tuple[list[Chunk], bytes | None]:
        """Return the chunks that end in `block`, and what is left of it once the region has closed."""
        in_brackets = self._form in (OuterForm.ARRAY, OuterForm.MEMBERS)
        if self._form is OuterForm.LINES:
            cut, closing = block.rfind(b"\n") + 1 or -1, -1
        else:
            cut, closing = self._scan(block, self._state, in_brackets)
        if closing >= 0:
            return self._take(block[:closing]), block[closing:]
        if cut < 0:
            self._kept.append(block)
            self._kept_bytes += len(block)
            if self._kept_bytes > self._record_limit:
                reason = (
                    f"a record is longer than {self._record_limit:,} bytes; if that is right, raise the "
                    "limit (TESSARON_RECORD_LIMIT)"
                )
                raise SplitError(Fault(Code.TOO_LONG, self._cursor.byte_offset, reason))
            return [], None
        chunks = self._take(block[:cut])
        if cut < len(block):
            self._kept.append(block[cut:])
        return chunks, None

    def finish(self) -> list[Chunk]:
        """Return what is left at the end of the source, whole or not: the kernel finds what is missing."""
        return self._take(b"")

    def _take(self, tail: bytes) -> list[Chunk]:
        data = b"".join((*self._kept, tail))
        self._kept, self._kept_bytes = [], 0
        chunks = []
        if _NOT_SPACE.search(data):
            chunks.append(
                Chunk(
                    data,
                    _SEPARATOR_OF[self._form],
                    self._continues,
                    self._cursor.byte_offset,
                    self._cursor.line,
                    self._document,
                    self._form is OuterForm.MEMBERS,
                )
            )
            self._continues = True
        self._cursor.pass_over(data)
        return chunks


class RecordSplitter:
    """Takes blocks of bytes of one source, gives chunks of whole records.

    The first block may begin some bytes into the source (`byte_offset`).
    """

    def __init__(self, form: OuterForm, byte_offset: int = 0, record_limit: int = RECORD_LIMIT):
        self._form = form
        self._cursor = Cursor(byte_offset)
        self._region = RegionSplitter(form, self._cursor, record_limit=record_limit)
        self._opened = form is not OuterForm.ARRAY
        self._closed = False

    def feed(self, block: bytes) -> Iterator[Chunk]:
        """Yield at most one chunk: the whole records up to the last one that ends in `block`.

        Raises:
            SplitError: When something stands after the end of the array.
        """
        if self._closed:
            self._check_blank(block)
            return
        if not self._opened:
            start = _NOT_SPACE.search(block)
            passed = len(block) if start is None else start.end()
            self._opened = start is not None
            self._cursor.pass_over(block[:passed])
            block = block[passed:]
        chunks, rest = self._region.feed(block)
        if rest is not None:
            self._check_closing(rest)
        yield from chunks
        if rest is not None:
            self._closed = True
            self._cursor.pass_over(rest[:1])
            self._check_blank(rest[1:])

    def finish(self) -> Iterator[Chunk]:
        """Yield what is left at the end of the source, whole or not: the kernel finds what is missing.

        Raises:
            SplitError: When the array was not closed.
        """
        if self._closed:
            return
        yield from self._region.finish()
        if self._form is OuterForm.ARRAY:
            reason = "the source ends inside its array; expected ']'; fetch the file again"
            raise SplitError(Fault(Code.TRUNCATED, self._cursor.byte_offset, reason))

    def end(self) -> tuple[int, int]:
        """Return the bytes from the beginning of the source to where the splitter is, and the line ends."""
        return self._cursor.byte_offset, self._cursor.line - 1

    def _check_closing(self, rest: bytes) -> None:
        if rest[:1] != b"]":
            reason = "expected ']' at the end of the array, found '}'"
            raise SplitError(Fault(Code.SYNTAX, self._cursor.byte_offset, reason))

    def _check_blank(self, block: bytes) -> None:
        found = _NOT_SPACE.search(block)
        if found:
            shown = found.group().decode("latin-1")
            reason = f"expected nothing after the end of the array, found {in_quotes(shown)}"
            raise SplitError(Fault(Code.SYNTAX, self._cursor.byte_offset + found.start(), reason))
        self._cursor.pass_over(block)
