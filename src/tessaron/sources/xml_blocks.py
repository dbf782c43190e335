"""The text of XML sources in blocks, with its beginning known, and nothing hidden in its document type."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import chain

from tessaron.core.base.errors import Code, DataError, Place
from tessaron.core.cutting.record_elements import LOOKED_AT_BYTES
from tessaron.core.markup.written_out import MOST_WRITTEN_OUT_BYTES, hides_markup, write_out


def with_head(name: str, blocks: Iterator[bytes]) -> tuple[bytes, bool, Iterator[bytes]]:
    """Return the first bytes of a source, whether they are all, and all of its blocks.

    A document whose type declares elements or namespaces is held as a whole, and written out.

    Args:
        name: The source, for messages.
        blocks: Its text as UTF-8.

    Raises:
        DataError: When a document that has to be held as a whole is too long.
    """
    head = bytearray()
    for block in blocks:
        head += block
        if len(head) >= LOOKED_AT_BYTES:
            break
    is_all = len(head) < LOOKED_AT_BYTES
    if not hides_markup(bytes(head)):
        return bytes(head), is_all, chain([bytes(head)], blocks)
    for block in blocks:
        head += block
        if len(head) > MOST_WRITTEN_OUT_BYTES:
            most = f"{MOST_WRITTEN_OUT_BYTES:,} bytes"
            reason = (
                "its document type declares elements or namespaces, so it is held as a whole, and has more "
                f"than {most}; write out what its entities stand for"
            )
            raise DataError(reason, Place(name, line=1), Code.LIMIT)
    whole = write_out(bytes(head)) or bytes(head)
    return whole, True, iter([whole])
