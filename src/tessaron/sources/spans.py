"""Spans of a large file of JSON Lines, each read by itself: every line is in just one of them.

The line that is under way where a span begins belongs to the one before it, also if none is: so a span passes
over everything up to its first line end, and goes on behind its own bytes up to the next. Of gzip (RFC 1952) a
span has the members that begin in it; the line ends are those of what they hold.
"""

from __future__ import annotations

import gzip
import re
import zlib
from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager
from dataclasses import dataclass
from typing import BinaryIO

from tessaron.core.base.errors import SourceError

_BLOCK_BYTES = 1024 * 1024
_MEMBER = re.compile(rb"\x1f\x8b\x08[\x00-\x1f].{4}[\x00\x02\x04][\x00-\x0d\xff]", re.DOTALL)
"""How a member begins: deflate, no reserved flag, a known hint and a known system."""
_MEMBER_BYTES, _TRIED_BYTES = 10, 64 * 1024
_OF_GZIP = 31
"""What tells zlib that a header and a check of gzip stand around the data."""

OpenAt = Callable[[int], AbstractContextManager[BinaryIO]]
"""Opens a file at an offset in bytes."""


@dataclass(frozen=True, slots=True)
class Span:
    """A span of a file.

    Attributes:
        start, stop: Its bytes; the file's end belongs to the last span.
        is_gzip: Whether the file is packed.
    """

    start: int
    stop: int
    is_gzip: bool = False


class SpanLines:
    """The lines of one span.

    Args:
        name: The file, for messages.
        open_at: Opens it at an offset.
        span: The span.

    Attributes:
        first: Of gzip: where the first member of the span begins; None where none does.
        end: Of gzip: where the last of them ended, and with it what this span is to hold.
    """

    def __init__(self, name: str, open_at: OpenAt, span: Span):
        self._name, self._open_at, self._span = name, open_at, span
        self.first: int | None = None
        self.end: int | None = None

    def __iter__(self) -> Iterator[bytes]:
        """Yield the lines in blocks.

        Raises:
            EOFError, zlib.error, gzip.BadGzipFile: When packed data is broken.
        """
        with self._open_at(self._span.start) as stream:
            pieces = self._members(stream) if self._span.is_gzip else self._plain(stream)
            yield from _own_lines(pieces, is_first=self._span.start == 0)

    def _plain(self, stream: BinaryIO) -> Iterator[tuple[bytes, bool]]:
        """Yield the bytes, each block with whether it stands behind the span."""
        left = self._span.stop - self._span.start
        while block := stream.read(min(left, _BLOCK_BYTES) if left else _BLOCK_BYTES):
            yield block, not left
            left = max(left - len(block), 0)

    def _members(self, stream: BinaryIO) -> Iterator[tuple[bytes, bool]]:
        """Yield what the members hold, each block with whether its member begins behind the span."""
        reader = _Ahead(stream, self._span.start)
        if self._span.start and not self._find_first(reader):
            return
        self.first = reader.offset
        while reader.has_member():
            is_behind = reader.offset >= self._span.stop
            self.end = reader.offset if is_behind and self.end is None else self.end
            for block in reader.member():
                yield block, is_behind
        self.end = reader.offset if self.end is None else self.end

    def _find_first(self, reader: _Ahead) -> bool:
        """Go to the first member that begins in the span; say whether one does."""
        while reader.offset < self._span.stop:
            found = _MEMBER.search(reader.peek(_BLOCK_BYTES))
            if found is None:
                if not reader.skip(max(len(reader.peek(_BLOCK_BYTES)) - _MEMBER_BYTES + 1, 1)):
                    return False
                continue
            reader.skip(found.start())
            if reader.offset >= self._span.stop:
                return False
            if reader.is_member_here():
                return True
            reader.skip(1)
        return False


class _Ahead:
    """A packed file read forward, with a look ahead."""

    def __init__(self, stream: BinaryIO, offset: int):
        self._stream, self._held, self.offset = stream, b"", offset

    def peek(self, count: int) -> bytes:
        """Return the next bytes; fewer only at the end."""
        while len(self._held) < count:
            more = self._stream.read(_BLOCK_BYTES)
            if not more:
                break
            self._held += more
        return self._held[:count]

    def skip(self, count: int) -> bool:
        """Pass over bytes; say whether there are more behind them."""
        self.peek(count)
        self.offset += min(count, len(self._held))
        self._held = self._held[count:]
        return bool(self.peek(1))

    def has_member(self) -> bool:
        """Say whether a member follows; zeros before it count for nothing.

        Raises:
            gzip.BadGzipFile: When something else does.
        """
        while (head := self.peek(1)) == b"\0":
            self.skip(1)
        if not head:
            return False
        if self.peek(2) != b"\x1f\x8b":
            raise gzip.BadGzipFile(f"Not a gzipped file ({self.peek(2)!r})")
        return True

    def is_member_here(self) -> bool:
        """Say whether what stands here can be unpacked."""
        try:
            zlib.decompressobj(_OF_GZIP).decompress(self.peek(_TRIED_BYTES))
        except zlib.error:
            return False
        return True

    def member(self) -> Iterator[bytes]:
        """Yield what the next member holds.

        Raises:
            EOFError, zlib.error: When it is broken.
        """
        unpacking = zlib.decompressobj(_OF_GZIP)
        while not unpacking.eof:
            packed = self.peek(_TRIED_BYTES)
            if not packed:
                raise EOFError("Compressed file ended before the end-of-stream marker was reached")
            block = unpacking.decompress(packed, _BLOCK_BYTES)
            while block:
                yield block
                block = unpacking.decompress(unpacking.unconsumed_tail, _BLOCK_BYTES)
            self.skip(len(packed) - len(unpacking.unused_data))


def _own_lines(pieces: Iterator[tuple[bytes, bool]], is_first: bool) -> Iterator[bytes]:
    """Yield from behind the first line end up to the first that stands behind the span."""
    passes = not is_first
    for block, is_behind in pieces:
        cut = block.find(b"\n")
        if is_behind:
            if passes:
                return
            yield block[: cut + 1] if cut >= 0 else block
            if cut >= 0:
                return
        elif not passes:
            yield block
        elif cut >= 0:
            passes = False
            if cut + 1 < len(block):
                yield block[cut + 1 :]


def check_chain(name: str, spans: list[tuple[int | None, int | None]]) -> None:
    """Check that every span of a packed file began where the one before it ended.

    Args:
        name: The file.
        spans: `SpanLines.first` and `.end` of each, in order.

    Raises:
        SourceError: When one did not: what looked like a member was none.
    """
    expected: int | None = None
    for first, end in spans:
        if first is None:
            continue
        if expected is not None and first != expected:
            raise SourceError(
                f"{name}: what looks like a member at byte {first:,} is none; unpack the file, or pack it as "
                "one member"
            )
        expected = end
