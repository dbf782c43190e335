"""Texts of a whole column as bytes, and what arrays of numbers are called in signatures."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import pyarrow as pa

Int32s = npt.NDArray[np.int32]
Int64s = npt.NDArray[np.int64]
Bytes = npt.NDArray[np.uint8]
Bools = npt.NDArray[np.bool_]


@dataclass(frozen=True, slots=True)
class TextLane:
    """Texts as UTF-8 bytes: text `i` is `data[offsets[i]:offsets[i + 1]]`; `offsets` has one entry more."""

    offsets: Int64s
    data: Bytes

    def __len__(self) -> int:
        return len(self.offsets) - 1

    @property
    def byte_lengths(self) -> Int64s:
        """The length of each text, in bytes."""
        return np.diff(self.offsets)

    def to_arrow(self) -> pa.Array:
        """Return the texts as a `large_string` array that shares this lane's memory."""
        buffers = [None, pa.py_buffer(np.ascontiguousarray(self.offsets)), pa.py_buffer(self.data)]
        return pa.LargeStringArray.from_buffers(len(self), buffers[1], buffers[2])

    @classmethod
    def of(cls, texts: Sequence[str] | pa.Array) -> TextLane:
        """Return the lane of a list of texts or an Arrow array of them without nulls."""
        array = texts if isinstance(texts, pa.Array) else pa.array(texts, pa.large_string())
        array = array.cast(pa.large_string())
        _, offsets, data = array.buffers()
        if len(array) == 0:
            return EMPTY_TEXTS
        window = np.frombuffer(offsets, np.int64)[array.offset : array.offset + len(array) + 1]
        return cls(window, np.frombuffer(data, np.uint8) if data is not None else np.empty(0, np.uint8))

    @classmethod
    def of_bytes(cls, ends: Sequence[int], data: bytes) -> TextLane:
        """Return the lane of texts that are bytes already: where each ends, from 0, and all of them."""
        return cls(np.array(ends, np.int64), np.frombuffer(data, np.uint8))

    def compact(self) -> TextLane:
        """Return the same texts in memory of their own."""
        start, stop = self.offsets[0], self.offsets[-1]
        return TextLane(self.offsets - start, self.data[start:stop].copy())

    def filled(self) -> TextLane:
        """Return the texts that are not empty."""
        lengths = self.byte_lengths
        if lengths.all():
            return self
        offsets = self.offsets[np.concatenate((lengths > 0, [True]))]
        # Empty texts take no bytes: where they stood, one text ends and the next begins.
        return TextLane(offsets, self.data)

    def slice(self, start: int, stop: int) -> TextLane:
        """Return the texts `start` to `stop` (exclusive), sharing memory."""
        return TextLane(self.offsets[start : stop + 1], self.data)


EMPTY_TEXTS = TextLane(np.zeros(1, np.int64), np.empty(0, np.uint8))
