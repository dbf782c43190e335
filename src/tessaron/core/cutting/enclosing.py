"""The elements that records stand in, numbered over all documents: so records can refer to their rows."""

from __future__ import annotations

from xml.sax.saxutils import quoteattr

from tessaron.core.base.paths import ENCLOSING
from tessaron.core.markup.record_path import NameTest, RecordPath

MOST_OUTLINE_BYTES = 64 * 1024 * 1024
"""So many bytes, at most, of the elements of one document are kept: more than any that is held has."""


class EnclosingElements:
    """Numbers the elements on the way to the records, level by level, as the rows of their tables are.

    Only where every step of the way is a name: else one level would be of several tables. For a document that
    cannot be parsed the elements are spelled without what is in them, so that no number loses its row.

    Args:
        path: Where the records stand.

    Attributes:
        are_counted: Whether there is anything to count.
    """

    def __init__(self, path: RecordPath):
        above = path.tests[1:-1]
        self.are_counted = len(above) > 0 and all(test.local != "*" for test in path.tests[:-1])
        self._counts = [0] * len(path.tests)
        way = path.tests[:-1]
        self._openings = [_opening(test, way[at - 1] if at else None) for at, test in enumerate(way)]
        self._closings = [f"</{test.local}>".encode() for test in way]
        self._outline = bytearray()

    def open(self, depth: int) -> int:
        """Count an element on the way, `depth` elements below the root; return its number, from 1."""
        self._add(self._openings[depth])
        self._counts[depth] += 1
        return self._counts[depth]

    def close(self, depth: int) -> None:
        """Take in that an element on the way ends."""
        self._add(self._closings[depth])

    def outline(self) -> bytes:
        """Return the elements of the document that has ended, and nothing else; empty if too many."""
        made = bytes(self._outline) if len(self._outline) <= MOST_OUTLINE_BYTES else b""
        self._outline.clear()
        return made

    def _add(self, tag: bytes) -> None:
        if len(self._outline) <= MOST_OUTLINE_BYTES:
            self._outline += tag


def _opening(test: NameTest, above: NameTest | None) -> bytes:
    """Return a start tag, which declares its namespace where the one above it has another."""
    space = test.namespace or ""
    is_known = above is not None and (above.namespace or "") == space
    return f"<{test.local}{'' if is_known else f' xmlns={quoteattr(space)}'}>".encode()


def numbers_of(levels: list[int]) -> tuple[int, ...]:
    """Return the numbers of the elements that a record stands in, the innermost first, without the root.

    Args:
        levels: Their numbers from the root down.
    """
    return tuple(reversed(levels[1:]))[: len(ENCLOSING)]
