"""The text of a document of XML without its records, as it is read."""

from __future__ import annotations

import re
from dataclasses import dataclass

from tessaron.core.cutting.xml_chunks import Context
from tessaron.core.markup.tokens import RECORDS_MARK

MOST_AROUND_BYTES = 16 * 1024 * 1024
"""So many bytes, at most, are kept of a document without its records."""
_BLANK = b" \t\r\n"
_MARK = re.compile(rb"<\?%b [0-9]+\?>" % RECORDS_MARK.encode())


@dataclass(frozen=True, slots=True)
class Skeleton:
    """A document without its records, once it has ended.

    Attributes:
        data: Its text; empty when there was too much of it.
        byte_offset, line: Where it begins.
        document: Its number among all, from 1.
        records: Records that stood in it.
        context: What its document type declares.
        outline: The elements that records stood in, and nothing else.
    """

    data: bytes
    byte_offset: int
    line: int
    document: int
    records: int
    context: Context
    outline: bytes = b""


class SkeletonText:
    """Gathers the text of one document after another; of one with too much of it nothing is kept.

    Attributes:
        byte_offset, line: Where the document begins.
    """

    def __init__(self, byte_offset: int):
        self.byte_offset, self.line = byte_offset, 1
        self._text = bytearray()

    @property
    def size(self) -> int:
        """Bytes gathered so far."""
        return len(self._text)

    def begin(self, byte_offset: int, line: int) -> None:
        """Take in where the document begins."""
        self.byte_offset, self.line = byte_offset, line

    def add(self, text: bytes) -> None:
        """Take in what stands in the document next."""
        if not self._has_too_much():
            self._text += text

    def mark_records(self, count: int) -> None:
        """Leave a mark where so many records stood."""
        if count:
            self.add(b"<?%b %d?>" % (RECORDS_MARK.encode(), count))

    def leave_out_blanks(self, start: int) -> None:
        """Leave out what stood between the records of an element that holds nothing else: it is no value."""
        if not self._has_too_much() and not _MARK.sub(b"", self._text[start:]).strip(_BLANK):
            del self._text[start:]

    def taken(self) -> bytes:
        """Return the text of the document, which has ended; empty if there was too much of it."""
        text = b"" if self._has_too_much() else bytes(self._text)
        self._text.clear()
        return text

    def _has_too_much(self) -> bool:
        return len(self._text) > MOST_AROUND_BYTES
