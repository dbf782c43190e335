"""Cutting a stream of bytes into chunks of whole JSON records, without parsing them.

Only quotes, brackets and commas are looked at, on whole blocks at once; what is between them is the
kernel's business. A block may end anywhere, also inside an escape.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from enum import Enum

import numpy as np

from tessaron.core.fragment import Fault
from tessaron.core.kernel.contract import Separator

_QUOTE, _BACKSLASH, _OPEN, _CLOSE, _COMMA, _NEWLINE = range(1, 7)
_CODES = np.zeros(256, np.uint8)
for _characters, _code in (
    (b'"', _QUOTE),
    (b"\\", _BACKSLASH),
    (b"{[", _OPEN),
    (b"}]", _CLOSE),
    (b",", _COMMA),
    (b"\n", _NEWLINE),
):
    _CODES[list(_characters)] = _code
_NOT_SPACE = re.compile(rb"[^ \t\r\n]")
_LINES_LOOKED_AT = 20


class Form(Enum):
    """How the records stand in a source."""

    LINES = "JSON Lines"
    ARRAY = "one array"
    VALUES = "one document, or documents one after another"


@dataclass(frozen=True, slots=True)
class Chunk:
    """Bytes of whole records, with their place in the source.

    Attributes:
        data: The records, separators between them included.
        separator: What stands between them.
        continues: Whether records of the same array stand before `data`.
        byte_offset: Where `data` begins in the source, in bytes from 0.
        line: The line of the source in which `data` begins, from 1.
    """

    data: bytes
    separator: Separator
    continues: bool
    byte_offset: int
    line: int


@dataclass(frozen=True, slots=True)
class _Marks:
    """The structural characters of one block that stand outside of texts."""

    at: np.ndarray[tuple[int], np.dtype[np.int64]]
    codes: np.ndarray[tuple[int], np.dtype[np.uint8]]
    depths: np.ndarray[tuple[int], np.dtype[np.int64]]
    """The depth after each character."""


class _Scanner:
    """Finds the structural characters outside of texts; keeps its state from block to block."""

    def __init__(self) -> None:
        self._in_text = False
        self._escaping = False
        self._depth = 0

    def scan(self, block: bytes) -> _Marks:
        values = np.frombuffer(block, np.uint8)
        codes = _CODES[values]
        at = np.flatnonzero(codes)
        codes = codes[at]
        quotes = codes == _QUOTE
        quotes &= ~self._escaped(at, codes, len(block))
        inside = (np.cumsum(quotes) + self._in_text) & 1
        self._in_text = bool(inside[-1]) if len(inside) else self._in_text
        keep = (inside == 0) & (codes >= _OPEN)
        at, codes = at[keep], codes[keep]
        steps = (codes == _OPEN).astype(np.int64) - (codes == _CLOSE)
        depths = np.cumsum(steps) + self._depth
        self._depth = int(depths[-1]) if len(depths) else self._depth
        return _Marks(at, codes, depths)

    def _escaped(
        self,
        at: np.ndarray[tuple[int], np.dtype[np.int64]],
        codes: np.ndarray[tuple[int], np.dtype[np.uint8]],
        length: int,
    ) -> np.ndarray[tuple[int], np.dtype[np.bool_]]:
        """Return which of the characters at `at` stand behind an odd run of backslashes."""
        slashes = at[codes == _BACKSLASH]
        carried, self._escaping = self._escaping, False
        if not carried and not len(slashes):
            return np.zeros(len(at), np.bool_)
        escaped = [0] if carried else []
        if carried and len(slashes) and slashes[0] == 0:
            slashes = slashes[1:]
        if not len(slashes):
            return np.isin(at, escaped)
        starts = np.flatnonzero(np.diff(slashes, prepend=-2) != 1)
        lengths = np.diff(starts, append=len(slashes))
        behind = slashes[starts] + lengths
        odd = behind[lengths % 2 == 1]
        self._escaping = bool(len(odd)) and int(odd[-1]) == length
        return np.isin(at, np.concatenate((np.array(escaped, np.int64), odd)))


def nesting_depth(text: bytes) -> int:
    """Return how many levels of objects and arrays `text` opens at most, one inside the other."""
    depths = _Scanner().scan(text).depths
    return int(depths.max()) if len(depths) else 0


def recognise_form(head: bytes) -> Form | None:
    """Return how the records stand, judged from the first bytes of a source; None if these are blank.

    One array is one document whose elements are the records. When half of the first lines hold whole
    values of their own, it is JSON Lines, also if some are broken.
    """
    start = _NOT_SPACE.search(head)
    if start is None:
        return None
    if head[start.start() : start.end()] == b"[" and not _first_value_is_followed(head):
        return Form.ARRAY
    lines = [line.strip() for line in head[start.start() :].split(b"\n", _LINES_LOOKED_AT)]
    lines = [line for line in lines[:_LINES_LOOKED_AT] if line]
    whole = sum(map(_is_whole, lines))
    return Form.LINES if 2 * whole >= len(lines) and (_is_whole(lines[0]) or whole > 1) else Form.VALUES


def _is_whole(line: bytes) -> bool:
    """Say whether the brackets and quotes of a line are balanced, and it does not end in a comma."""
    scanner = _Scanner()
    marks = scanner.scan(line)
    if line[:1] not in (b"{", b"["):
        return not len(marks.at) and not scanner._in_text
    return not scanner._in_text and scanner._depth == 0 and line[-1:] in (b"}", b"]")


def _first_value_is_followed(head: bytes) -> bool:
    """Say whether the first bracketed value ends within `head` and another value comes after it."""
    marks = _Scanner().scan(head)
    ends = marks.at[(marks.codes == _CLOSE) & (marks.depths == 0)]
    after = _NOT_SPACE.search(head, int(ends[0]) + 1) if len(ends) else None
    return after is not None and after.group() in b'[{"-0123456789tfn'


def _after_last_line(block: bytes) -> int:
    """Return the index after the last line break; -1 if there is none."""
    return block.rfind(b"\n") + 1 or -1


class SplitError(Exception):
    """Carries the `Fault` of a source whose outer form is broken; `byte_offset` counts from its start."""

    def __init__(self, fault: Fault):
        super().__init__(fault.reason)
        self.fault = fault


class RecordSplitter:
    """Takes blocks of bytes of one source, gives chunks of whole records.

    A record longer than a block is collected until it is whole; nothing is scanned twice. The first block
    may begin some bytes into the source (`byte_offset`).
    """

    def __init__(self, form: Form, byte_offset: int = 0):
        self._form = form
        self._separator = {
            Form.LINES: Separator.LINE,
            Form.ARRAY: Separator.COMMA,
            Form.VALUES: Separator.NOTHING,
        }[form]
        self._scanner = _Scanner()
        self._kept: list[bytes] = []
        self._byte_offset = byte_offset
        self._line = 1
        self._opened = form is not Form.ARRAY
        self._closed = False
        self._continues = False

    def feed(self, block: bytes) -> Iterator[Chunk]:
        """Yield at most one chunk: the whole records up to the last one that ends in `block`.

        Raises:
            SplitError: When something stands after the end of the array.
        """
        if self._closed:
            self._check_blank(block)
            return
        marks = None if self._form is Form.LINES else self._scanner.scan(block)
        if not self._opened:
            block, skipped = self._open(block)
            if not self._opened:
                return
            assert marks is not None
            marks = _Marks(marks.at - skipped, marks.codes, marks.depths)
        cut = _after_last_line(block) if marks is None else self._cut(block, marks)
        if cut < 0:
            self._kept.append(block)
            return
        yield from self._take(block[:cut])
        if self._closed:
            self._step(block[cut : cut + 1])
            self._check_blank(block[cut + 1 :])
        elif cut < len(block):
            self._kept.append(block[cut:])

    def finish(self) -> Iterator[Chunk]:
        """Yield what is left at the end of the source, whole or not: the kernel finds what is missing.

        Raises:
            SplitError: When the array was not closed.
        """
        if self._closed:
            return
        left = b"".join(self._kept)
        if _NOT_SPACE.search(left):
            self._kept = [left]
            yield from self._take(b"")
        if self._form is Form.ARRAY:
            raise SplitError(
                Fault(
                    "truncated",
                    self._byte_offset,
                    "the source ends inside its array; expected ']'; fetch the file again",
                )
            )

    def _open(self, block: bytes) -> tuple[bytes, int]:
        """Pass the opening bracket of the array; return the rest of the block and what was passed."""
        start = _NOT_SPACE.search(block)
        passed = len(block) if start is None else start.end()
        self._opened = start is not None
        self._step(block[:passed])
        return block[passed:], passed

    def _cut(self, block: bytes, marks: _Marks) -> int:
        """Return where in the block the last whole record ends; -1 if none ends there."""
        if self._form is Form.ARRAY:
            ends = marks.at[(marks.depths == 0) & (marks.codes == _CLOSE)]
            if len(ends):
                self._closed = True
                self._check_closing(block, int(ends[0]))
                return int(ends[0])
            commas = marks.at[(marks.depths == 1) & (marks.codes == _COMMA)]
            return int(commas[-1]) if len(commas) else -1
        ends = marks.at[(marks.depths <= 0) & ((marks.codes == _CLOSE) | (marks.codes == _NEWLINE))]
        return int(ends[-1]) + 1 if len(ends) else -1

    def _take(self, tail: bytes) -> Iterator[Chunk]:
        self._kept.append(tail)
        data = b"".join(self._kept)
        self._kept = []
        if _NOT_SPACE.search(data):
            yield Chunk(data, self._separator, self._continues, self._byte_offset, self._line)
            self._continues = True
        self._step(data)

    def _step(self, passed: bytes) -> None:
        self._byte_offset += len(passed)
        self._line += passed.count(b"\n")

    def _check_closing(self, block: bytes, end: int) -> None:
        if block[end : end + 1] != b"]":
            before = sum(map(len, self._kept))
            self._refuse(self._byte_offset + before + end, "expected ']' at the end of the array, found '}'")

    def _check_blank(self, block: bytes) -> None:
        found = _NOT_SPACE.search(block)
        if found:
            self._refuse(
                self._byte_offset + found.start(),
                f"expected nothing after the end of the array, found {found.group().decode('latin-1')!r}",
            )
        self._step(block)

    def _refuse(self, byte_offset: int, reason: str) -> None:
        raise SplitError(Fault("syntax", byte_offset, reason))
