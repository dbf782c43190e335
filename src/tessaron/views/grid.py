"""Rows as plain text: in columns where they fit the width, else one field per line."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field

from tessaron.views.palette import PLAIN, Palette

NULL = "null"
"""How a missing value is shown. A text that looks so, or is empty, is shown in quotes."""
LONGEST_CELL = 40
"""Longer values are cut, with an ellipsis, where they stand in columns."""
LONGEST_LINE = 200
"""The same where each stands on a line of its own."""
_GAP = "  "
_ROWS_FOR_WIDTHS = 200


@dataclass(slots=True)
class Grid:
    """Rows of texts under names.

    Attributes:
        names: The columns.
        width: Cells of the terminal; 0 for no limit.
        right: Columns that stand to the right, as numbers do.
        under: A second line of the head, e.g. types; empty for none.
        palette: Colours for types and null.
    """

    names: Sequence[str]
    width: int = 0
    right: frozenset[int] = frozenset()
    under: Sequence[str] = ()
    palette: Palette = PLAIN
    _widths: list[int] = field(default_factory=list)

    def lines(self, rows: Sequence[Sequence[str | None]]) -> Iterator[str]:
        """Yield the head and the rows; a cell that is None is null."""
        cells = [[shown(cell, LONGEST_CELL) for cell in row] for row in rows]
        heads = [list(self.names), *([list(self.under)] if self.under else [])]
        self._widths = [
            max([text_width(row[index]) for row in (*heads, *cells[:_ROWS_FOR_WIDTHS])], default=0)
            for index in range(len(self.names))
        ]
        total = sum(self._widths) + len(_GAP) * (len(self._widths) - 1)
        if self.width and total > self.width:
            yield from self._one_field_per_line(rows)
            return
        yield self._line(heads[0])
        for under in heads[1:]:
            yield self.palette.paint("type", self._line(under))
        yield _GAP.join("─" * width for width in self._widths)
        for row, given in zip(cells, rows, strict=True):
            yield self._line(row, [cell is None for cell in given])

    def _line(self, row: Sequence[str], nulls: Sequence[bool] = ()) -> str:
        padded = [
            pad(cell, width, index in self.right)
            for index, (cell, width) in enumerate(zip(row, self._widths, strict=True))
        ]
        if self.palette.is_on and any(nulls):
            pairs = zip(padded, nulls, strict=True)
            padded = [self.palette.paint("null", cell) if is_null else cell for cell, is_null in pairs]
        return _GAP.join(padded).rstrip()

    def _one_field_per_line(self, rows: Sequence[Sequence[str | None]]) -> Iterator[str]:
        widest = max(map(text_width, self.names), default=0)
        kinds = max(map(text_width, self.under), default=0)
        room = max(20, self.width - widest - kinds - 2 * len(_GAP))
        for number, row in enumerate(rows, 1):
            title = f"row {number} "
            yield title + "─" * max(0, min(self.width or 60, 60) - len(title))
            for index, cell in enumerate(row):
                parts = [pad(self.names[index], widest, False)]
                parts += [pad(self.under[index], kinds, False)] if self.under else []
                yield _GAP.join([*parts, shown(cell, min(room, LONGEST_LINE))]).rstrip()


def shown(cell: str | None, longest: int) -> str:
    """Return a cell as it is shown: null and the empty text apart, on one line, cut where it is too long."""
    if cell is None:
        return NULL
    if not cell or cell == NULL:
        return f'"{cell}"'
    if not cell.isprintable():
        cell = "".join(c if c.isprintable() else c.encode("unicode_escape").decode() for c in cell)
    return shorten(cell, longest)


def shorten(text: str, longest: int) -> str:
    """Return the text, cut with an ellipsis if it is wider than so many cells."""
    if text_width(text) <= longest:
        return text
    kept = text[: longest - 1]
    while text_width(kept) > longest - 1:
        kept = kept[:-1]
    return kept + "…"


def pad(text: str, width: int, right: bool) -> str:
    """Return the text filled up to so many cells."""
    space = " " * max(0, width - text_width(text))
    return space + text if right else text + space


def text_width(text: str) -> int:
    """Return the cells a text takes on a terminal."""
    if text.isascii():
        return len(text)
    from rich.cells import cell_len

    return cell_len(text)
