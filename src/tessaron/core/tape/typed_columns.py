"""Columns that emission types itself: what is wanted of a form's places, and the arrays that come back."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import pyarrow as pa

from tessaron.core.base.arrays import ArrowArray, ArrowType

CODES = {
    "boolean": 0, "integer": 1, "decimal": 2, "double": 3, "text": 4, "date": 5, "time": 6, "timestamp": 7,
    "timestamp_tz": 8, "uuid": 9,
}  # fmt: skip
"""The types that emission makes, with their numbers in `_columns.h`."""


@dataclass(frozen=True, slots=True)
class WantedColumn:
    """A column that is wanted.

    Attributes:
        place: Where its values stand: the number of a place of the form.
        type: One of `CODES`.
        arrow_type: What it is made as.
        digits: Of a decimal all its digits; of moments those of the second.
        scale: Of a decimal the digits after the point.
        drops_empty: Whether an empty text is no value, as in XML.
        words: The words for true and for false, in turn.
        keeps_values: Whether the lanes shall have its values, too.
    """

    place: int
    type: str
    arrow_type: Any
    digits: int = 0
    scale: int = 0
    drops_empty: bool = False
    words: tuple[str, ...] = ()
    keeps_values: bool = True

    def row(self) -> tuple[int, int, int, int, bool, tuple[bytes, ...], bool]:
        """Return the column as the compiled pass reads it."""
        words = tuple(word.encode() for word in self.words)
        return (
            self.place,
            CODES[self.type],
            self.digits,
            self.scale,
            self.drops_empty,
            words,
            self.keeps_values,
        )


_Made = tuple[int, int, bytes | None, bytes, bytes | None]


def arrays_of(made: Sequence[_Made | None], wanted: Sequence[WantedColumn]) -> list[ArrowArray]:
    """Return the columns as Arrow arrays with a value, or null, for each row; None where one was not made."""
    return [
        None if parts is None else _array_of(parts, column.arrow_type)
        for parts, column in zip(made, wanted, strict=True)
    ]


def _array_of(made: _Made, arrow_type: ArrowType) -> ArrowArray:
    rows, valid, there, cells, data = made
    buffers = [None if there is None else pa.py_buffer(there), pa.py_buffer(cells)]
    if data is not None:
        buffers.append(pa.py_buffer(data))
    return pa.Array.from_buffers(arrow_type, rows, buffers, rows - valid)
