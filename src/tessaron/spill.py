"""Packed fragments put aside while the shape is still being learnt: in memory while few, then on disk."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator
from types import TracebackType

from tessaron.core.errors import TargetError
from tessaron.mailbox import Spilled

_IN_MEMORY_BYTES = 16 * 1024 * 1024


class Spill:
    """Keeps packed fragments in order.

    The file on disk has no name: the system removes it with the process, however that ends.
    """

    def __init__(self) -> None:
        self._file = tempfile.SpooledTemporaryFile(max_size=_IN_MEMORY_BYTES)  # noqa: SIM115
        self._kept: list[int | Spilled] = []

    def replace_by(self, other: Spill) -> None:
        """Take what the other has in place of what was here."""
        self._file.close()
        self._file, self._kept = other._file, other._kept

    def __enter__(self) -> Spill:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._file.close()

    def write(self, packed: bytes | Spilled) -> None:
        """Append a fragment; one that a worker has put aside itself stays there.

        Raises:
            TargetError: When the temporary folder is full.
        """
        if isinstance(packed, Spilled):
            self._kept.append(packed)
            return
        try:
            self._file.write(packed)
        except OSError as error:
            raise TargetError(
                f"{tempfile.gettempdir()}: no room for temporary data: {error.strerror}; "
                "set TMPDIR to a folder on a larger disk"
            ) from error
        self._kept.append(len(packed))

    def read(self) -> Iterator[bytes | Spilled]:
        """Yield all fragments in the order in which they were written."""
        self._file.seek(0)
        for kept in self._kept:
            yield kept if isinstance(kept, Spilled) else self._file.read(kept)
