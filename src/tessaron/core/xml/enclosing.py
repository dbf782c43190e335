"""The elements that records stand in, numbered over all documents: so records can refer to their rows."""

from __future__ import annotations

from xml.sax.saxutils import quoteattr

from tessaron.core.paths import ENCLOSING
from tessaron.core.xml.record_path import RecordPath


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
        self._way = path.tests[:-1]
        self._outline = bytearray()

    def open(self, depth: int) -> int:
        """Count an element on the way, `depth` elements below the root; return its number, from 1."""
        name = self._way[depth]
        self._outline += f"<{name.local} xmlns={quoteattr(name.namespace or '')}>".encode()
        self._counts[depth] += 1
        return self._counts[depth]

    def close(self, depth: int) -> None:
        """Take in that an element on the way ends."""
        self._outline += b"</" + self._way[depth].local.encode() + b">"

    def outline(self) -> bytes:
        """Return the elements of the document that has ended, and nothing else."""
        made = bytes(self._outline)
        self._outline.clear()
        return made


def numbers_of(levels: list[int]) -> tuple[int, ...]:
    """Return the numbers of the elements that a record stands in, the innermost first, without the root.

    Args:
        levels: Their numbers from the root down.
    """
    return tuple(reversed(levels[1:]))[: len(ENCLOSING)]
