"""Bytes of any compression and any Unicode encoding become UTF-8; both are recognised from the content."""

from __future__ import annotations

import bz2
import codecs
import gzip
import lzma
import os
import re
import stat
import zlib
from collections.abc import Callable, Iterator
from typing import Any, BinaryIO, Protocol

from tessaron.core.base.errors import Code, DataError, Place, SourceError
from tessaron.core.base.visible import in_quotes
from tessaron.sources.forms.gzip_members import MAGIC, GzipMembers
from tessaron.sources.forms.limits import EXPANSION_VARIABLE, FREE_BYTES, expansion_limit


class Readable(Protocol):
    """What bytes are read from."""

    def read(self, size: int, /) -> bytes:
        """Return at most `size` bytes; none at the end."""


class Joined:
    """A stream that begins with bytes already read."""

    def __init__(self, head: bytes, stream: Readable):
        self._head = head
        self._stream = stream

    def read(self, size: int = -1) -> bytes:
        """Return at most `size` bytes; none at the end."""
        if not self._head:
            return self._stream.read(size)
        if size < 0:
            size = len(self._head)
        found, self._head = self._head[:size], self._head[size:]
        return found

    def readable(self) -> bool:
        """Return True."""
        return True

    def close(self) -> None:
        """Do nothing: whoever opened the stream closes it."""

    @property
    def closed(self) -> bool:
        """Return False."""
        return False


def _open_zstd(stream: Any) -> Any:
    import pyarrow as pa

    return pa.CompressedInputStream(pa.PythonFile(stream, "r"), "zstd")


_COMPRESSIONS: tuple[tuple[bytes, Callable[[Any], Any]], ...] = (
    (MAGIC, GzipMembers),
    (b"BZh", bz2.BZ2File),
    (b"\xfd7zXZ\x00", lzma.LZMAFile),
    (b"\x28\xb5\x2f\xfd", _open_zstd),
)
_MARKS = (
    (codecs.BOM_UTF8, "utf-8"),
    (codecs.BOM_UTF32_LE, "utf-32-le"),
    (codecs.BOM_UTF32_BE, "utf-32-be"),
    (codecs.BOM_UTF16_LE, "utf-16-le"),
    (codecs.BOM_UTF16_BE, "utf-16-be"),
)
_ZERO_PATTERNS: dict[tuple[bool, ...], str] = {
    (True, True, True, False): "utf-32-be",
    (False, True, True, True): "utf-32-le",
    (True, False, True, False): "utf-16-be",
    (False, True, False, True): "utf-16-le",
}
"""Where zero bytes stand among the first four, as JSON begins with two characters of ASCII."""
_LONGEST_MAGIC = 6
_BEYOND_BYTES = 64 * 1024
"""So much is asked for beyond the known size of a file, which may have grown since."""
_DECLARED = re.compile(
    rb"""\A[ \t\r\n]*<\?xml[ \t\r\n][^>]*?encoding[ \t\r\n]*=[ \t\r\n]*["']([A-Za-z][\w.:-]*)["']"""
)
_DECLARATION_BYTES = 512


def utf8_blocks(
    name: str,
    stream: BinaryIO,
    block_bytes: int,
    on_bytes: Callable[[int], None],
    heeds_declaration: bool = False,
) -> tuple[int, Iterator[bytes]]:
    """Return the length of a byte order mark that was passed, and the source as blocks of UTF-8.

    Args:
        name: The source, for messages.
        stream: Its bytes.
        block_bytes: Bytes read at once.
        on_bytes: Called with the number of bytes of each block read, before decompression.
        heeds_declaration: Whether an XML declaration says which encoding it is.

    Raises:
        SourceError: When reading fails.
        DataError: When the compressed data is broken, or an encoding is not known.
    """
    reading = Guarded(name, _decompressed(name, Guarded(name, _Counted(stream, on_bytes))))
    head = reading.read_all(4)
    mark, encoding = _encoding_of(head)
    if heeds_declaration and encoding == "utf-8" and not mark:
        head += reading.read_all(_DECLARATION_BYTES)
        encoding = _declared_encoding(name, head)
    rest = Joined(head[mark:], reading)
    blocks = iter(lambda: rest.read(block_bytes), b"")
    if encoding == "utf-8":
        return mark, blocks
    return mark, _recoded(name, blocks, encoding)


def unpacked(name: str, stream: BinaryIO) -> Guarded:
    """Return the bytes of a stream unpacked, however often it was packed; faults name the source."""
    return Guarded(name, _decompressed(name, Guarded(name, stream)))


def bounded(name: str, stream: Readable, packed_bytes: int) -> Readable:
    """Return what comes out of so many packed bytes, as long as that is not out of all proportion."""
    packed = _Packed(Joined(b"", stream))
    packed.count = packed_bytes
    return _Unpacked(name, Guarded(name, stream), packed)


class _Counted:
    """Counts what is read."""

    def __init__(self, stream: BinaryIO, on_bytes: Callable[[int], None]):
        self._stream = stream
        self._on_bytes = on_bytes
        self._left = _size_of(stream)

    def read(self, size: int = -1) -> bytes:
        if self._left is not None and size > self._left + _BEYOND_BYTES:
            # A buffer for what is asked for would be made, however little there is.
            size = self._left + _BEYOND_BYTES
        found = self._stream.read(size)
        if found:
            self._on_bytes(len(found))
            self._left = None if self._left is None else max(self._left - len(found), 0)
        return found


def _size_of(stream: BinaryIO) -> int | None:
    """Return the bytes of a file; None for what is none, or does not tell."""
    try:
        known = os.fstat(stream.fileno())
    except (OSError, AttributeError, ValueError):
        return None
    return known.st_size if stat.S_ISREG(known.st_mode) else None


class Guarded:
    """Turns what can go wrong while reading into errors that name the source."""

    def __init__(self, name: str, stream: Readable):
        self._name = name
        self._stream = stream

    def read(self, size: int) -> bytes:
        """Return at most `size` bytes; none at the end."""
        try:
            return bytes(self._stream.read(size))
        except (SourceError, DataError):
            raise
        except (EOFError, gzip.BadGzipFile, lzma.LZMAError, zlib.error, ValueError) as error:
            reason = f"the compressed data is broken or cut off ({error}); fetch the file again"
            raise DataError(reason, Place(self._name), Code.COMPRESSION) from error
        except OSError as error:
            if error.errno is None:
                reason = f"the compressed data is broken or cut off ({error}); fetch the file again"
                raise DataError(reason, Place(self._name), Code.COMPRESSION) from error
            raise SourceError(f"{self._name}: cannot be read: {error.strerror}") from error

    def read_all(self, size: int) -> bytes:
        """Return the next `size` bytes; fewer only at the end."""
        found = b""
        while len(found) < size:
            more = self.read(size - len(found))
            if not more:
                break
            found += more
        return found


def _decompressed(name: str, stream: Readable) -> Readable:
    """Return the stream unpacked, however often it was packed."""
    head = b""
    while len(head) < _LONGEST_MAGIC:
        more = stream.read(_LONGEST_MAGIC - len(head))
        if not more:
            break
        head += more
    whole = Joined(head, stream)
    for magic, opened in _COMPRESSIONS:
        if head.startswith(magic):
            if magic == b"BZh" and not head[3:4].isdigit():
                return whole
            counted = _Packed(whole)
            return _decompressed(name, _Unpacked(name, Guarded(name, opened(counted)), counted))
    return whole


_PIECE_BYTES = 64 * 1024
"""So much is unpacked at once: what was unpacked before a fault is not lost."""


class _Packed:
    """Compressed data, counted."""

    def __init__(self, stream: Joined):
        self._stream = stream
        self.count = 0

    def read(self, size: int = -1) -> bytes:
        found = self._stream.read(size)
        self.count += len(found)
        return found

    def __getattr__(self, name: str) -> object:
        return getattr(self._stream, name)


class _Unpacked:
    """What comes out of compressed data, as long as it is not out of all proportion."""

    def __init__(self, name: str, stream: Readable, packed: _Packed):
        self._name, self._stream, self._packed = name, stream, packed
        self._limit = expansion_limit()
        self._broken: DataError | None = None
        self._count = 0

    def read(self, size: int) -> bytes:
        found = self._up_to(size)
        self._count += len(found)
        if self._count > max(FREE_BYTES, self._limit * max(self._packed.count, 1)):
            raise SourceError(
                f"{self._name}: the compressed data comes out as more than {self._limit:,} times its "
                f"{self._packed.count:,} bytes; if that is right, set {EXPANSION_VARIABLE} higher"
            )
        return found

    def _up_to(self, size: int) -> bytes:
        """Return the next bytes; those before the data breaks off are given before that is said."""
        if self._broken is not None:
            raise self._broken
        pieces: list[bytes] = []
        missing = size
        while missing:
            try:
                piece = self._stream.read(min(missing, _PIECE_BYTES))
            except DataError as error:
                if not pieces:
                    raise
                self._broken = error
                break
            if not piece:
                break
            pieces.append(piece)
            missing -= len(piece)
        return b"".join(pieces)


def _encoding_of(head: bytes) -> tuple[int, str]:
    for mark, encoding in _MARKS:
        if head.startswith(mark):
            return len(mark), encoding
    zeros = tuple(byte == 0 for byte in head)
    return 0, _ZERO_PATTERNS.get(zeros, "utf-8")


def _declared_encoding(name: str, head: bytes) -> str:
    """Return the encoding that an XML declaration names (XML 1.0 section 4.3.3); UTF-8 without one."""
    found = _DECLARED.match(head)
    if found is None:
        return "utf-8"
    declared = found.group(1).decode("ascii", "replace")
    try:
        known = codecs.lookup(declared)
        if not known._is_text_encoding:
            raise LookupError
    except LookupError:
        raise DataError(
            f"the encoding {in_quotes(declared)} is not known", Place(name), Code.ENCODING
        ) from None
    # What begins with letters of ASCII cannot be what it says, if it says UTF-16.
    plain = known.name in ("ascii", "utf-8", "utf-16", "utf-16-le", "utf-16-be", "utf-32")
    return "utf-8" if plain else known.name


def _recoded(name: str, blocks: Iterator[bytes], encoding: str) -> Iterator[bytes]:
    decoder = codecs.getincrementaldecoder(encoding)()
    try:
        for block in blocks:
            yield decoder.decode(block).encode()
        yield decoder.decode(b"", final=True).encode()
    except UnicodeError as error:
        raise DataError(f"the text is not {encoding.upper()}: {error}", Place(name), Code.ENCODING) from error
