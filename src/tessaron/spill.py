"""Packed chunks put aside while the shape is still being learnt: in memory while few, then on disk."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator
from types import TracebackType

from tessaron.core.errors import TargetError

_IN_MEMORY_BYTES = 16 * 1024 * 1024


class Spill:
    """Keeps packed chunks in order.

    The file on disk has no name: the system removes it with the process, however that ends.
    """

    def __init__(self) -> None:
        self._file = tempfile.SpooledTemporaryFile(max_size=_IN_MEMORY_BYTES)  # noqa: SIM115
        self._sizes: list[int] = []

    def __enter__(self) -> Spill:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._file.close()

    def __len__(self) -> int:
        """Return how many chunks are kept."""
        return len(self._sizes)

    def write(self, packed: bytes) -> None:
        """Append a chunk.

        Raises:
            TargetError: When the temporary folder is full.
        """
        try:
            self._file.write(packed)
        except OSError as error:
            raise TargetError(
                f"{tempfile.gettempdir()}: no room for temporary data: {error.strerror}; "
                "set TMPDIR to a folder on a larger disk"
            ) from error
        self._sizes.append(len(packed))

    def read(self) -> Iterator[bytes]:
        """Yield all chunks in the order in which they were written."""
        self._file.seek(0)
        for size in self._sizes:
            yield self._file.read(size)
