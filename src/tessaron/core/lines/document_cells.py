"""What texts in the cells of a table are: none, one document of JSON by itself, XML, or something else."""

from __future__ import annotations

import re
from enum import IntEnum
from itertools import pairwise

import numpy as np
import numpy.typing as npt

from tessaron.core.base.text_lane import TextLane

try:
    from tessaron.core.compiled._fastjson import cells as compiled
except ImportError:  # no compiler
    compiled = None  # type: ignore[assignment]


class Cell(IntEnum):
    """What a text is.

    `WHOLE` is JSON that cannot become more than its place in a record: whatever reads the record finds what
    is wrong inside of it. `IN_LINES` is the same with line breaks between its parts.
    """

    NOTHING = 0
    WHOLE = 1
    IN_LINES = 2
    XML = 3
    OTHER = 4


def sorts_of(texts: TextLane) -> npt.NDArray[np.uint8]:
    """Return what each of some texts is, as numbers of `Cell`."""
    if compiled is None:
        return np.array([sort_of(each) for each in _bytes_of(texts)], np.uint8)
    data = memoryview(texts.data)  # type: ignore[arg-type]
    return np.frombuffer(compiled(data, np.ascontiguousarray(texts.offsets)), np.uint8)


_PIECE = re.compile(rb'"(?:[^"\\\r\n]|\\[^\r\n])*"|[{}\[\],:"\\ \t\r\n]')
_BREAK = re.compile(rb"[\r\n]")


def sort_of(text: bytes) -> Cell:
    """Return what a text is; the reference of the compiled code."""
    whole = text.strip(b" \t\r\n")
    if not whole:
        return Cell.NOTHING
    if whole[:1] == b"<":
        return Cell.XML
    depth = 0
    for found in _PIECE.finditer(whole):
        piece, is_last = found.group(), found.end() == len(whole)
        first = piece[:1]
        if first == b'"' and len(piece) == 1:
            return Cell.OTHER
        if depth == 0 and (first in b",: \t\r\n" or (first in b'"{[' and found.start() > 0)):
            return Cell.OTHER
        if first in b"{[":
            depth += 1
            continue
        if first in b"}]":
            depth -= 1
            if depth < 0:
                return Cell.OTHER
        if depth == 0 and first in b'"}]' and not is_last:
            return Cell.OTHER
    if depth:
        return Cell.OTHER
    # No text has a line break in it: those that are there stand between the parts.
    return Cell.IN_LINES if _BREAK.search(text) else Cell.WHOLE


def _bytes_of(texts: TextLane) -> list[bytes]:
    data, bounds = bytes(texts.data), texts.offsets.tolist()
    return [data[start:stop] for start, stop in pairwise(bounds)]
