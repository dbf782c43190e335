"""Fragments put aside while the shape is still being learnt: in memory while few, then on disk."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator
from types import TracebackType
from typing import Any

import pyarrow as pa

from tessaron.core.errors import TargetError
from tessaron.core.fragment import Fragment, fragment_from_batch, fragment_schema, fragment_to_batch

_IN_MEMORY_BYTES = 16 * 1024 * 1024


class Spill:
    """Keeps fragments in order as one Arrow IPC stream.

    The file on disk has no name: the system removes it with the process, however that ends.
    """

    def __init__(self) -> None:
        self._file = tempfile.SpooledTemporaryFile(max_size=_IN_MEMORY_BYTES)  # noqa: SIM115
        self._writer: Any = pa.ipc.new_stream(pa.PythonFile(self._file, "w"), fragment_schema())

    def __enter__(self) -> Spill:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._file.close()

    def write(self, fragment: Fragment) -> None:
        """Append a fragment.

        Raises:
            TargetError: When the temporary folder is full.
        """
        try:
            self._writer.write_batch(fragment_to_batch(fragment))
        except OSError as error:
            raise TargetError(
                f"{tempfile.gettempdir()}: no room for temporary data: {error.strerror}; "
                "set TMPDIR to a folder on a larger disk"
            ) from error

    def read(self) -> Iterator[Fragment]:
        """Yield all fragments in the order in which they were written."""
        self._writer.close()
        self._file.seek(0)
        for batch in pa.ipc.open_stream(pa.PythonFile(self._file, "r")):
            yield fragment_from_batch(batch)
