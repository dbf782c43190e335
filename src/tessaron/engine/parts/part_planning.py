"""Which parts the sources are read in: small files together, large ones of JSON Lines in spans."""

from __future__ import annotations

import os
from collections.abc import Iterator, Sequence
from dataclasses import replace
from itertools import pairwise

from tessaron.core.base.errors import TessaronError
from tessaron.core.cutting.json_splitting import OuterForm, recognise_form
from tessaron.engine.parts.part_specs import FilePiece, Part
from tessaron.sources.forms.endings import ARCHIVE_ENDINGS, TABULAR_ENDINGS
from tessaron.sources.forms.gzip_members import MAGIC
from tessaron.sources.inputs import ByteInput, Input
from tessaron.sources.spans import Span

PART_BYTES = 96 * 1024 * 1024
"""So many bytes of the source make a part."""
_MOST_FILES = 2_000
_HEAD_BYTES = 256 * 1024
_PACKED_ENDINGS = (".gz", ".zst", ".bz2", ".xz")
_EXPANSION = 8
"""JSON comes out of what is packed as about so many times its bytes."""


def is_read_there(entry: Input) -> bool:
    """Say whether a worker can open a source by itself."""
    if not isinstance(entry, ByteInput) or not (entry.path or entry.store) or not entry.size:
        return False
    if entry.store is None and (entry.stream is not None or entry.opener is not None):
        return False
    return not entry.name.lower().endswith((*ARCHIVE_ENDINGS, *TABULAR_ENDINGS))


def planned_parts(
    inputs: Sequence[Input], part_bytes: int, may_split: bool
) -> Iterator[tuple[tuple[FilePiece, ...], int]]:
    """Yield the pieces of each part, with their bytes.

    Args:
        inputs: All sources; those that workers cannot open are passed over.
        part_bytes: The bytes of a part.
        may_split: Whether large files may be read in spans.
    """
    waiting: list[FilePiece] = []
    weight = 0
    for number, entry in enumerate(inputs):
        if not isinstance(entry, ByteInput) or not is_read_there(entry):
            continue
        size = entry.size or 0
        own = size * (_EXPANSION if entry.name.lower().endswith(_PACKED_ENDINGS) else 1)
        path = None if entry.path is None else os.path.abspath(entry.path)
        whole = FilePiece(number, entry.name, size, path, entry.store)
        if own > 2 * part_bytes and may_split and (spans := list(_spans(entry, part_bytes))):
            if waiting:
                yield tuple(waiting), sum(piece.size for piece in waiting)
                waiting, weight = [], 0
            for span in spans:
                last = span is spans[-1]
                yield (replace(whole, span=span, is_last=last),), span.stop - span.start
            continue
        waiting.append(whole)
        weight += own
        if weight >= part_bytes or len(waiting) >= _MOST_FILES:
            yield tuple(waiting), sum(piece.size for piece in waiting)
            waiting, weight = [], 0
    if waiting:
        yield tuple(waiting), sum(piece.size for piece in waiting)


def numbered(pieces: tuple[FilePiece, ...], byte_count: int, number: int) -> Part:
    """Return the part that pieces make."""
    return Part(number, pieces, byte_count=byte_count)


def _spans(entry: ByteInput, part_bytes: int) -> Iterator[Span]:
    """Yield the spans of a file, if it is plain JSON Lines in UTF-8, packed or not; else nothing."""
    head = _head_of(entry)
    is_gzip = head.startswith(MAGIC)
    text = _unpacked_head(head) if is_gzip else head
    is_plain = text[:1] in (b"{", b"[") and b"\0" not in text[:4]
    if not is_plain or recognise_form(text) is not OuterForm.LINES or text.startswith(MAGIC):
        return
    step = part_bytes // (_EXPANSION if is_gzip else 1)
    size = entry.size or 0
    count = max(round(size / step), 1)
    for start, stop in pairwise(size * number // count for number in range(count + 1)):
        yield Span(start, stop, is_gzip)


def _head_of(entry: ByteInput) -> bytes:
    try:
        with entry.open() as stream:
            return stream.read(_HEAD_BYTES)
    except TessaronError:
        # It is told when it is read.
        return b""


def _unpacked_head(head: bytes) -> bytes:
    import zlib

    try:
        return zlib.decompressobj(31).decompress(head, _HEAD_BYTES)
    except zlib.error:
        return b""
