"""Spans of a large file of JSON Lines, each read by itself: every line is in just one of them.

The line that is under way where a span begins belongs to the one before it, also if none is: so a span
passes over everything up to its first line end, and goes on behind its own bytes up to the next. Of gzip
(RFC 1952) a span has the members that begin in it; the line ends are those of what they hold.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager
from dataclasses import dataclass
from typing import BinaryIO

from tessaron.core.base.errors import SourceError
from tessaron.sources.forms.gzip_members import GzipMembers

_BLOCK_BYTES = 2 * 1024 * 1024
_MEMBER = re.compile(rb"\x1f\x8b\x08[\x00-\x1f].{4}[\x00\x02\x04][\x00-\x0d\xff]", re.DOTALL)
"""How a member begins: deflate, no reserved flag, a known hint and a known system."""
_MEMBER_BYTES = 10

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
        reader = GzipMembers(stream, self._span.start)
        if self._span.start and not self._find_first(reader):
            return
        self.first = reader.offset
        while reader.has_member():
            is_behind = reader.offset >= self._span.stop
            self.end = reader.offset if is_behind and self.end is None else self.end
            for block in reader.member():
                yield block, is_behind
        self.end = reader.offset if self.end is None else self.end

    def _find_first(self, reader: GzipMembers) -> bool:
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
