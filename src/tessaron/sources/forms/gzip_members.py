"""The members of a gzip file (RFC 1952), one after the other, with the offset of each.

What a member holds up to a fault is given before the fault is said.
"""

from __future__ import annotations

import gzip
import zlib
from collections.abc import Iterator
from typing import Protocol

_BLOCK_BYTES = 256 * 1024
_PACKED_BYTES = 64 * 1024
_OF_GZIP = 31
"""What tells zlib that a header and a check of gzip stand around the data."""
MAGIC = b"\x1f\x8b"


class _Readable(Protocol):
    def read(self, size: int, /) -> bytes:
        """Return at most `size` bytes; none at the end."""


class GzipMembers:
    """A packed file read forward, with a look ahead.

    Args:
        stream: The file, from an offset on.
        offset: That offset.

    Attributes:
        offset: How far it was passed over.
    """

    def __init__(self, stream: _Readable, offset: int = 0):
        self._stream, self.offset = stream, offset
        self._held, self._at = b"", 0
        self._blocks: Iterator[bytes] | None = None
        self._left = memoryview(b"")

    def peek(self, count: int) -> bytes:
        """Return the next bytes; fewer only at the end."""
        while len(self._held) - self._at < count:
            more = self._stream.read(_BLOCK_BYTES)
            if not more:
                break
            self._held, self._at = self._held[self._at :] + more, 0
        return self._held[self._at : self._at + count]

    def skip(self, count: int) -> bool:
        """Pass over bytes; say whether there are more behind them."""
        passed = len(self.peek(count))
        self.offset, self._at = self.offset + passed, self._at + passed
        return bool(self.peek(1))

    def has_member(self) -> bool:
        """Say whether a member follows; zeros before it count for nothing.

        Raises:
            gzip.BadGzipFile: When something else does.
        """
        while (head := self.peek(1)) == b"\0":
            self.skip(1)
        if head and self.peek(2) != MAGIC:
            raise gzip.BadGzipFile(f"Not a gzipped file ({self.peek(2)!r})")
        return bool(head)

    def is_member_here(self) -> bool:
        """Say whether what stands here can be unpacked."""
        try:
            zlib.decompressobj(_OF_GZIP).decompress(self.peek(_PACKED_BYTES), _BLOCK_BYTES)
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
            packed = self.peek(_PACKED_BYTES)
            if not packed:
                raise EOFError("Compressed file ended before the end-of-stream marker was reached")
            block = unpacking.decompress(packed, _BLOCK_BYTES)
            while block:
                yield block
                # Behind its end a member would take what follows for its own.
                is_over = unpacking.eof
                block = b"" if is_over else unpacking.decompress(unpacking.unconsumed_tail, _BLOCK_BYTES)
            self.skip(len(packed) - len(unpacking.unused_data))

    def read(self, size: int) -> bytes:
        """Return at most `size` bytes of what all members hold; none at the end.

        Raises:
            EOFError, zlib.error, gzip.BadGzipFile: When the file is broken.
        """
        if self._blocks is None:
            self._blocks = self._all()
        while not self._left:
            block = next(self._blocks, None)
            if block is None:
                return b""
            self._left = memoryview(block)
        found, self._left = self._left[:size], self._left[size:]
        return bytes(found)

    def _all(self) -> Iterator[bytes]:
        while self.has_member():
            yield from self.member()
