"""Packed chunks put aside while the shape is still being learnt: in memory while few, then on disk."""

from __future__ import annotations

import mmap
import tempfile
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from types import TracebackType
from typing import IO

from tessaron.core.base.errors import TargetError

_IN_MEMORY_BYTES = 16 * 1024 * 1024
_Parts = Sequence[bytes | memoryview]


class Spill:
    """Keeps packed chunks in order.

    The file on disk has no name: the system removes it with the process, however that ends. Chunks begin
    where pages do, so that each is read by mapping it into memory, without a copy.

    Args:
        file: Instead: a file with this name, open only while it is written or read, for who keeps many of
            these; it is removed with the spill.
        most_bytes: So many bytes stay in memory.
    """

    def __init__(self, file: Path | None = None, most_bytes: int = _IN_MEMORY_BYTES) -> None:
        self._name, self._most_bytes = file, most_bytes
        self._kept: list[_Parts] = []
        self._kept_bytes = 0
        self._file: IO[bytes] | None = None
        self._written: list[tuple[int, list[int]]] = []

    def __enter__(self) -> Spill:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._kept.clear()
        self._take_away()

    def __del__(self) -> None:
        # Of one that is no context: what still reads it holds it.
        self._take_away()

    def _take_away(self) -> None:
        if self._file is not None:
            self._file.close()
        if self._name is not None and self._written:
            self._name.unlink(missing_ok=True)

    def __len__(self) -> int:
        """Return how many chunks are kept."""
        return len(self._written) + len(self._kept)

    def write(self, packed: _Parts) -> None:
        """Append a chunk, given in parts.

        Raises:
            TargetError: When the temporary folder is full.
        """
        self._kept.append(packed)
        self._kept_bytes += sum(map(len, packed))
        if self._kept_bytes <= self._most_bytes and not self._written:
            return
        try:
            with self._opened("ab") as file:
                for parts in self._kept:
                    self._write(file, parts)
        except OSError as error:
            raise TargetError(
                f"{tempfile.gettempdir()}: no room for temporary data: {error.strerror}; "
                "set TMPDIR to a folder on a larger disk"
            ) from error
        self._kept.clear()

    @contextmanager
    def _opened(self, mode: str) -> Iterator[IO[bytes]]:
        """Return the file."""
        if self._name is not None:
            with open(self._name, mode) as file:
                yield file
            return
        if self._file is None:
            self._file = tempfile.TemporaryFile()  # noqa: SIM115
        yield self._file
        self._file.flush()

    def _write(self, file: IO[bytes], parts: _Parts) -> None:
        at = file.seek(0, 2)
        start = -(-at // mmap.ALLOCATIONGRANULARITY) * mmap.ALLOCATIONGRANULARITY
        file.write(bytes(start - at))
        for part in parts:
            file.write(part)
        self._written.append((start, list(map(len, parts))))

    def rewrite(self, chunks: Iterator[_Parts]) -> None:
        """Keep other chunks in the place of those there are; they may be made of these, one by one."""
        other = Spill()
        for parts in chunks:
            other.write(parts)
        if self._file is not None:
            self._file.close()
        self._kept, self._kept_bytes = other._kept, other._kept_bytes
        self._file, self._written = other._file, other._written
        # What it had is not its own any more.
        other._file, other._written = None, []

    def read(self) -> Iterator[_Parts]:
        """Yield all chunks in the order in which they were written."""
        for start, sizes in self._written:
            with self._opened("rb") as file:
                found = _mapped(file.fileno(), start, sizes)
            yield found
        yield from self._kept


def _mapped(file: int, start: int, sizes: Sequence[int]) -> _Parts:
    whole = memoryview(mmap.mmap(file, sum(sizes), offset=start, access=mmap.ACCESS_READ))
    parts, at = [], 0
    for size in sizes:
        parts.append(whole[at : at + size])
        at += size
    return parts
