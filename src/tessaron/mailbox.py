"""Memory that two processes share, for what is too large to be sent; and a place for packed fragments."""

from __future__ import annotations

import mmap
import os
import pickle
import tempfile
from collections.abc import Sequence
from dataclasses import dataclass
from itertools import accumulate, pairwise
from typing import Any

_PAGE_BYTES = 1024 * 1024


def shared_file() -> int:
    """Return the descriptor of a file without a name, in memory where the system can."""
    if hasattr(os, "memfd_create"):
        return os.memfd_create("tessaron", 0)
    return spill_file()


def spill_file() -> int:
    """Return the descriptor of a file without a name in the temporary folder."""
    with tempfile.TemporaryFile() as file:
        return os.dup(file.fileno())


@dataclass(frozen=True, slots=True)
class Letter:
    """What is sent of an object: its pickle, and the sizes of its buffers in the mailbox."""

    head: bytes
    sizes: tuple[int, ...]


class Mailbox:
    """One direction of one pair of processes: one letter at a time."""

    def __init__(self, descriptor: int):
        self.descriptor = descriptor
        self._map: mmap.mmap | None = None

    def put(self, value: Any) -> Letter:
        """Write the buffers of `value` and return the rest, to be sent."""
        buffers: list[pickle.PickleBuffer] = []
        head = pickle.dumps(value, protocol=5, buffer_callback=buffers.append)
        views = [buffer.raw() for buffer in buffers]
        self._write(views)
        return Letter(head, tuple(view.nbytes for view in views))

    def get(self, letter: Letter) -> Any:
        """Return the object of a letter; it does not use the mailbox any more."""
        total = sum(letter.sizes)
        data = self._mapped(total)[:total] if total else b""
        if len(letter.sizes) == 1:
            return pickle.loads(letter.head, buffers=[data])
        view = memoryview(data)
        ends = list(accumulate(letter.sizes, initial=0))
        buffers = [view[start:stop] for start, stop in pairwise(ends)]
        return pickle.loads(letter.head, buffers=buffers)

    def close(self) -> None:
        """Give the memory back."""
        if self._map is not None:
            self._map.close()
        os.close(self.descriptor)

    def _write(self, views: Sequence[memoryview]) -> None:
        total = sum(view.nbytes for view in views)
        if not total:
            return
        if os.fstat(self.descriptor).st_size < total:
            os.ftruncate(self.descriptor, (total // _PAGE_BYTES + 1) * _PAGE_BYTES)
        memory = self._mapped(total)
        at = 0
        for view in views:
            memory[at : at + view.nbytes] = view
            at += view.nbytes

    def _mapped(self, size: int) -> mmap.mmap:
        if self._map is None or len(self._map) < size:
            self._map = mmap.mmap(self.descriptor, os.fstat(self.descriptor).st_size)
        return self._map


@dataclass(frozen=True, slots=True)
class Spilled:
    """Where a worker has put a packed fragment: which spill file, where in it, how long."""

    file: int
    byte_offset: int
    size: int

    def read(self, descriptors: Sequence[int]) -> bytes:
        """Return the packed fragment."""
        return os.pread(descriptors[self.file], self.size, self.byte_offset)


def spill(packed: bytes, file: int, descriptors: Sequence[int]) -> Spilled:
    """Append a packed fragment to a spill file that only this process writes."""
    byte_offset = os.fstat(descriptors[file]).st_size
    written = 0
    while written < len(packed):
        written += os.pwrite(descriptors[file], memoryview(packed)[written:], byte_offset + written)
    return Spilled(file, byte_offset, len(packed))
