"""From the bytes of a source to chunks of whole JSON records."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import BinaryIO

from tessaron.core.errors import DataError, Place, SourceError
from tessaron.core.splitting import Chunk, RecordSplitter, SplitError, recognise_form
from tessaron.sources.inputs import ByteInput

CHUNK_BYTES = 2 * 1024 * 1024
"""Bytes read at once: the unit of work, and what bounds memory."""
_BOM = b"\xef\xbb\xbf"


def read_chunks(
    source: ByteInput, on_bytes: Callable[[int], None], chunk_bytes: int = CHUNK_BYTES
) -> Iterator[Chunk]:
    """Yield the chunks of whole records of one source, in order.

    Args:
        source: Where the bytes come from.
        on_bytes: Called with the number of bytes of each block read.
        chunk_bytes: Bytes read at once; a record that is longer makes its chunk longer.

    Raises:
        SourceError: When reading fails.
        DataError: When there is no JSON in it, or its outer form is broken.
    """
    with source.open() as stream:
        blocks = _blocks(source, stream, on_bytes, chunk_bytes)
        head, skipped = _head(blocks)
        form = recognise_form(head)
        if form is None:
            raise DataError(
                "the source is empty; expected a JSON array, a JSON object, or one object per line",
                Place(source.name),
                "empty",
            )
        splitter = RecordSplitter(form, skipped)
        try:
            yield from splitter.feed(head)
            for block in blocks:
                yield from splitter.feed(block)
            yield from splitter.finish()
        except SplitError as error:
            fault = error.fault
            raise DataError(
                fault.reason, Place(source.name, byte_offset=fault.byte_offset), fault.code
            ) from None


def _blocks(
    source: ByteInput, stream: BinaryIO, on_bytes: Callable[[int], None], chunk_bytes: int
) -> Iterator[bytes]:
    while True:
        try:
            block = stream.read(chunk_bytes)
        except OSError as error:
            raise SourceError(f"{source.name}: cannot be read: {error.strerror}") from error
        if not block:
            return
        on_bytes(len(block))
        yield block


def _head(blocks: Iterator[bytes]) -> tuple[bytes, int]:
    """Return the first bytes with something in them, without a byte order mark, and how long that was."""
    head = b""
    for block in blocks:
        head += block
        if len(head) > len(_BOM) and head.removeprefix(_BOM).strip():
            break
    return head.removeprefix(_BOM), len(_BOM) if head.startswith(_BOM) else 0
