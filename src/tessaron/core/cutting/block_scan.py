"""Finding the structural characters of JSON outside of texts, on whole blocks at once with NumPy."""

from __future__ import annotations

import re
from dataclasses import dataclass

import numpy as np

from tessaron.core.cutting.scan_state import ScanState

_QUOTE, _BACKSLASH, _OPEN, _CLOSE, _COMMA, _NEWLINE = range(1, 7)
_CODES = np.zeros(256, np.uint8)
for _characters, _code in (
    (b'"', _QUOTE),
    (b"\\", _BACKSLASH),
    (b"{[", _OPEN),
    (b"}]", _CLOSE),
    (b",", _COMMA),
    (b"\n", _NEWLINE),
):
    _CODES[list(_characters)] = _code
_NOT_SPACE = re.compile(rb"[^ \t\r\n]")


@dataclass(frozen=True, slots=True)
class _Marks:
    """The structural characters of one block that stand outside of texts."""

    at: np.ndarray[tuple[int], np.dtype[np.int64]]
    codes: np.ndarray[tuple[int], np.dtype[np.uint8]]
    depths: np.ndarray[tuple[int], np.dtype[np.int64]]
    """The depth after each character."""


class _Scanner:
    """Finds the structural characters outside of texts; keeps its state from block to block."""

    def __init__(self) -> None:
        self._in_text = False
        self._escaping = False
        self._depth = 0

    def restore(self, state: ScanState) -> None:
        """Go on where another scan stopped."""
        self._in_text, self._escaping, self._depth = state.in_text, state.escaping, state.depth

    def save(self, state: ScanState) -> None:
        """Keep where this scan stopped."""
        state.in_text, state.escaping, state.depth = self._in_text, self._escaping, self._depth

    def scan(self, block: bytes | memoryview) -> _Marks:
        values = np.frombuffer(block, np.uint8)
        codes = _CODES[values]
        at = np.flatnonzero(codes)
        codes = codes[at]
        quotes = codes == _QUOTE
        quotes &= ~self._escaped(at, codes, len(block))
        inside = (np.cumsum(quotes) + self._in_text) & 1
        self._in_text = bool(inside[-1]) if len(inside) else self._in_text
        keep = (inside == 0) & (codes >= _OPEN)
        at, codes = at[keep], codes[keep]
        steps = (codes == _OPEN).astype(np.int64) - (codes == _CLOSE)
        depths = np.cumsum(steps) + self._depth
        self._depth = int(depths[-1]) if len(depths) else self._depth
        return _Marks(at, codes, depths)

    def _escaped(
        self,
        at: np.ndarray[tuple[int], np.dtype[np.int64]],
        codes: np.ndarray[tuple[int], np.dtype[np.uint8]],
        length: int,
    ) -> np.ndarray[tuple[int], np.dtype[np.bool_]]:
        """Return which of the characters at `at` stand behind an odd run of backslashes."""
        slashes = at[codes == _BACKSLASH]
        carried, self._escaping = self._escaping, False
        if not carried and not len(slashes):
            return np.zeros(len(at), np.bool_)
        escaped = [0] if carried else []
        if carried and len(slashes) and slashes[0] == 0:
            slashes = slashes[1:]
        if not len(slashes):
            return np.isin(at, escaped)
        starts = np.flatnonzero(np.diff(slashes, prepend=-2) != 1)
        lengths = np.diff(starts, append=len(slashes))
        behind = slashes[starts] + lengths
        odd = behind[lengths % 2 == 1]
        self._escaping = bool(len(odd)) and int(odd[-1]) == length
        return np.isin(at, np.concatenate((np.array(escaped, np.int64), odd)))


def nesting_depth(text: bytes) -> int:
    """Return how many levels of objects and arrays `text` opens at most, one inside the other."""
    depths = _Scanner().scan(text).depths
    return int(depths.max()) if len(depths) else 0


def first_value_is_followed(head: bytes) -> bool:
    """Say whether the first bracketed value ends within `head` and another value comes after it."""
    marks = _Scanner().scan(head)
    ends = marks.at[(marks.codes == _CLOSE) & (marks.depths == 0)]
    after = _NOT_SPACE.search(head, int(ends[0]) + 1) if len(ends) else None
    return after is not None and after.group() in b'[{"-0123456789tfn'


def scan_block(block: bytes | memoryview, state: ScanState, on_comma: bool) -> tuple[int, int]:
    """Return where to cut `block`, and where the container around the records closes; -1 for none.

    Args:
        block: The next bytes.
        state: Moved on to the end of the block.
        on_comma: Whether records stand between commas at depth 0, in a container around them. Else they end
            behind a bracket that closes to depth 0, or at a line break there.
    """
    scanner = _Scanner()
    scanner.restore(state)
    marks = scanner.scan(block)
    scanner.save(state)
    if not on_comma:
        ends = marks.at[(marks.depths <= 0) & ((marks.codes == _CLOSE) | (marks.codes == _NEWLINE))]
        return (int(ends[-1]) + 1 if len(ends) else -1), -1
    closings = marks.at[(marks.depths < 0) & (marks.codes == _CLOSE)]
    closing = int(closings[0]) if len(closings) else -1
    commas = marks.at[(marks.depths == 0) & (marks.codes == _COMMA)]
    commas = commas[commas < closing] if closing >= 0 else commas
    return (int(commas[-1]) if len(commas) else -1), closing
