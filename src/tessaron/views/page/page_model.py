"""What a page is made of: plain data, in the order in which it is read."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any, Literal

from tessaron.core.base.visible import visible

_SOURCES_NAMED = 3
_MOST_ROWS = 500
"""A page shows no more rows of a sheet; it says how many there are besides, and where."""
Tone = Literal["", "good", "bad", "note"]
"""How something is meant: colour never says it alone."""


@dataclass(frozen=True, slots=True)
class SheetCell:
    """A cell of a sheet: its text, and what it leads to or how it is meant.

    `path` and `table` are links to places of the page; `tone` goes with a word that says the same.
    """

    text: str
    path: str = ""
    table: str = ""
    tone: Tone = ""
    is_code: bool = False


Rows = list[list[str | SheetCell]]
"""The cells of a sheet."""


@dataclass(frozen=True, slots=True)
class Sheet:
    """A table of the page, under a heading.

    Attributes:
        anchor: What links to it name.
        title: Its heading.
        headings: Its columns.
        rows: Its cells.
        numeric: The columns that stand to the right.
        told: A sentence under the heading.
        is_open: Whether its rows are seen at once; else they open.
        rest: Where the rows are that the page does not show.
    """

    anchor: str
    title: str
    headings: Sequence[str]
    rows: Sequence[Sequence[str | SheetCell]]
    numeric: frozenset[str] = frozenset()
    told: str = ""
    is_open: bool = True
    rest: str = ""

    def shown(self, most: int = _MOST_ROWS) -> tuple[list[str], list[list[SheetCell]]]:
        """Return the headings and the first rows, without columns in which nothing stands."""
        rows = [[_shown_cell(cell) for cell in row] for row in self.rows[:most]]
        kept = [place for place in range(len(self.headings)) if any(row[place].text for row in rows)]
        return [self.headings[place] for place in kept], [[row[place] for place in kept] for row in rows]

    def told_of_rest(self, most: int = _MOST_ROWS) -> str:
        """Return how many rows there are besides those shown, and where; nothing where these are all."""
        more = len(self.rows) - most
        where = f", {self.rest}" if self.rest else ""
        return f"and {more:,} more{where}" if more > 0 else ""


def _shown_cell(cell: str | SheetCell) -> SheetCell:
    if not isinstance(cell, SheetCell):
        return SheetCell(visible(cell))
    return replace(cell, text=visible(cell.text), path=visible(cell.path), table=visible(cell.table))


@dataclass(frozen=True, slots=True)
class NextCommand:
    """A command to be typed next: what for, and its text."""

    purpose: str
    command: str


@dataclass(frozen=True, slots=True)
class ShownStructure:
    """The structure, its tables and notes, as the script of the page reads them; see `structure_part`.

    Attributes:
        data: What the script draws: `paths`, `notes`, `tables`, `sources`.
        diagram: The diagram as SVG; empty where there is none.
        has_paths, has_notes, has_rows: Which parts there are.
    """

    data: Mapping[str, Any] = field(default_factory=dict)
    diagram: str = ""
    has_paths: bool = False
    has_notes: bool = False
    has_rows: bool = False


@dataclass(frozen=True, slots=True)
class Page:
    """One page.

    Attributes:
        command: The command it is of.
        title: What it shows.
        told: Lines about it: what, and how much.
        verdict: One sentence that counts most, with how it is meant; empty for none.
        facts: Names and values under the title.
        structure: Paths, notes, tables.
        first: Sheets that stand before the structure.
        sheets: Sheets that stand behind it.
        advice: What to type next.
    """

    command: str
    title: str
    told: str = ""
    verdict: str = ""
    tone: Tone = ""
    facts: Sequence[tuple[str, str]] = ()
    structure: ShownStructure = field(default_factory=ShownStructure)
    first: Sequence[Sheet] = ()
    sheets: Sequence[Sheet] = ()
    advice: Sequence[NextCommand] = ()


def names_of(sources: Sequence[str]) -> str:
    """Return the first names of sources, and how many more there are."""
    more = len(sources) - _SOURCES_NAMED
    named = ", ".join(sources[:_SOURCES_NAMED]) + (f" and {more:,} more" if more > 0 else "")
    return visible(named) or "records from a program"
