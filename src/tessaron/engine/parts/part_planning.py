"""Which parts the sources are read in: small files together, large ones of JSON Lines in spans."""

from __future__ import annotations

import os
import zlib
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, replace
from itertools import pairwise
from typing import TYPE_CHECKING

from tessaron.core.base.errors import TessaronError
from tessaron.core.cutting.json_splitting import OuterForm
from tessaron.engine.parts.part_specs import FilePiece
from tessaron.sources.forms.endings import ARCHIVE_ENDINGS, TABULAR_ENDINGS
from tessaron.sources.forms.gzip_members import MAGIC
from tessaron.sources.inputs import ByteInput, Input
from tessaron.sources.json_chunks import Agreed, records_at
from tessaron.sources.spans import Span

if TYPE_CHECKING:
    from tessaron.core.query.jsonpath import JsonPath

PART_BYTES, LEAST_PART_BYTES = 100_000_000, 8_000_000
"""So many bytes of the source make a part, and no fewer where there would be too few for all workers."""
_PARTS_OF_EACH, _WORKER_BYTES = 8, 2_000_000
_MOST_PARTS, _LARGEST_PART_BYTES = 50_000, 2_000_000_000
"""So many parts are enough for any cluster: more of them would keep the process that hands them out busy."""
_MOST_FILES = 2_000
_WORTH_SPANS, _MOST_OF_ONE = 2, 4
"""A file of more than so many parts is read in spans; one of more than so many that cannot be is cut here."""
_HEAD_BYTES, _OF_GZIP = 64 * 1024, 31
_PACKED_ENDINGS = (".gz", ".zst", ".bz2", ".xz")
_EXPANSION = 8
"""JSON comes out of what is packed as about so many times its bytes."""


def fitting_part_bytes(inputs: Sequence[Input], worker_count: int) -> int:
    """Return the bytes of a part with which all workers have several."""
    return part_bytes_for(sum(map(weight_of, inputs)), worker_count)


def part_bytes_for(byte_count: int, worker_count: int) -> int:
    """Return the bytes of a part with which all workers have several, of so many bytes in all."""
    # Many workers would ask for small parts more often than they can be handed out.
    least = max(LEAST_PART_BYTES, worker_count * _WORKER_BYTES)
    fitting = min(PART_BYTES, max(least, byte_count // (_PARTS_OF_EACH * worker_count)))
    return max(fitting, min(byte_count // _MOST_PARTS, _LARGEST_PART_BYTES))


def weight_of(entry: Input) -> int:
    """Return about how many bytes come out of a source."""
    return (entry.size or 0) * (_EXPANSION if entry.name.lower().endswith(_PACKED_ENDINGS) else 1)


@dataclass
class PartPlan:
    """Which of the sources workers open by themselves, and in which parts.

    A file that is large and cannot be read in spans would keep one worker for as long as all others together:
    it is cut here, at the bounds of its records, and its chunks are sent.

    Args:
        inputs: The sources.
        part_bytes: The bytes of a part.
        path, agreed: Where the records stand; see `ChunkReader`.
    """

    inputs: Sequence[Input]
    part_bytes: int
    path: JsonPath | None = None
    agreed: Agreed | None = None
    _spans: dict[int, tuple[Span, ...]] = field(default_factory=dict)

    def is_read_there(self, number: int) -> bool:
        """Say whether a worker opens the source of a number by itself."""
        entry = self.inputs[number]
        if not isinstance(entry, ByteInput) or not (entry.path or entry.store) or not entry.size:
            return False
        if entry.store is None and (entry.stream is not None or entry.opener is not None):
            return False
        if entry.name.lower().endswith((*ARCHIVE_ENDINGS, *TABULAR_ENDINGS)):
            return False
        return weight_of(entry) <= _MOST_OF_ONE * self.part_bytes or bool(self.spans(number, entry))

    def parts(self) -> Iterator[tuple[tuple[FilePiece, ...], int]]:
        """Yield the pieces of each part, with their bytes."""
        waiting: list[FilePiece] = []
        weight = 0
        for number, entry in enumerate(self.inputs):
            if not self.is_read_there(number):
                continue
            assert isinstance(entry, ByteInput)
            own, size = weight_of(entry), entry.size or 0
            path = None if entry.path is None else os.path.abspath(entry.path)
            whole = FilePiece(number, entry.name, size, path, entry.store)
            spans = self.spans(number, entry)
            if waiting and (spans or weight + own > self.part_bytes):
                yield _together(waiting)
                waiting, weight = [], 0
            for span in spans:
                yield (replace(whole, span=span, is_last=span is spans[-1]),), span.stop - span.start
            if not spans:
                waiting.append(whole)
                weight += own
            if len(waiting) >= _MOST_FILES:
                yield _together(waiting)
                waiting, weight = [], 0
        if waiting:
            yield _together(waiting)

    def spans(self, number: int, entry: ByteInput) -> tuple[Span, ...]:
        """Return the spans in which a large file is read; nothing where it is read as a whole."""
        if weight_of(entry) <= _WORTH_SPANS * self.part_bytes:
            return ()
        if number not in self._spans:
            self._spans[number] = tuple(_spans(entry, self.part_bytes, self.path, self.agreed))
        return self._spans[number]


def _together(waiting: list[FilePiece]) -> tuple[tuple[FilePiece, ...], int]:
    return tuple(waiting), sum(piece.size for piece in waiting)


def _spans(entry: ByteInput, part_bytes: int, path: JsonPath | None, agreed: Agreed | None) -> Iterator[Span]:
    """Yield the spans of a file, if it is plain JSON Lines in UTF-8, packed or not; else nothing."""
    try:
        with entry.open() as stream:
            head = stream.read(_HEAD_BYTES)
        place = records_at(entry, path, agreed)
    except TessaronError:
        # It is told when it is read.
        return
    is_gzip = head.startswith(MAGIC)
    begin = _unpacked_head(head) if is_gzip else head
    is_plain = begin[:1] in (b"{", b"[") and b"\0" not in begin[:4]
    if not is_plain or place is None or place.form is not OuterForm.LINES or place.names is not None:
        return
    step = part_bytes // (_EXPANSION if is_gzip else 1)
    size = entry.size or 0
    count = max(round(size / step), 1)
    for start, stop in pairwise(size * number // count for number in range(count + 1)):
        yield Span(start, stop, is_gzip)


def _unpacked_head(head: bytes) -> bytes:
    try:
        return zlib.decompressobj(_OF_GZIP).decompress(head, _HEAD_BYTES)
    except zlib.error:
        return b""
