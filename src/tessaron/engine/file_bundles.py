"""Small files with one document each, read together: one chunk for many, where each would cost one."""

from __future__ import annotations

import os
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from tessaron.core.base.text_lane import TextLane
from tessaron.core.cutting.json_splitting import Chunk
from tessaron.core.cutting.separator import Separator
from tessaron.core.lines.document_cells import Cell, sorts_of
from tessaron.sources.inputs import ByteInput, Input

MOST_BYTES = 64 * 1024
"""A larger file is read by itself."""
_FEWEST = 8
"""So many small files one after another are worth it."""


@dataclass(frozen=True, slots=True)
class Bundle:
    """Files that are read together.

    Attributes:
        entries: The files.
        chunk: Their documents, one after another.
    """

    entries: tuple[ByteInput, ...]
    chunk: Chunk


def bundled(inputs: Sequence[Input], chunk_bytes: int) -> Iterator[Input | Bundle]:
    """Yield inputs, those together that can be: small files of UTF-8 with one object of JSON in each."""
    waiting: list[tuple[ByteInput, bytes]] = []
    byte_count = 0
    for entry in inputs:
        data = _object_in(entry)
        if data is not None and isinstance(entry, ByteInput):
            waiting.append((entry, data))
            byte_count += len(data)
        if waiting and (data is None or byte_count >= chunk_bytes):
            yield from _together(waiting)
            waiting, byte_count = [], 0
        if data is None:
            yield entry
    yield from _together(waiting)


def _object_in(entry: Input) -> bytes | None:
    """Return what is in a small file that may hold one object; None for any other."""
    if not isinstance(entry, ByteInput) or entry.path is None or entry.opener or entry.said or not entry.size:
        return None
    if entry.size > MOST_BYTES:
        return None
    try:
        # A third of what it costs to make a file object for so few bytes.
        file = os.open(entry.path, os.O_RDONLY | getattr(os, "O_BINARY", 0))
        try:
            data = os.read(file, MOST_BYTES + 1)
        finally:
            os.close(file)
    except OSError:
        # It is told when it is read by itself.
        return None
    return data if len(data) == entry.size and data[:1] == b"{" else None


def _together(files: list[tuple[ByteInput, bytes]]) -> Iterator[Input | Bundle]:
    entries = tuple(entry for entry, _ in files)
    if len(files) >= _FEWEST:
        joined = b"".join(data for _, data in files)
        ends = [0]
        for _, data in files:
            ends.append(ends[-1] + len(data))
        sorts = sorts_of(TextLane.of_bytes(ends, joined))
        if ((sorts == Cell.WHOLE) | (sorts == Cell.IN_LINES)).all():
            names = tuple(entry.name for entry in entries)
            lines = b"\n".join(data for _, data in files)
            yield Bundle(entries, Chunk(lines, Separator.NOTHING, False, 0, 1, sources=names))
            return
    yield from entries
