"""Paths in layouts: a part of JSONPath (RFC 9535), of names, `[*]`, `.*` and positions."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Protocol

from tessaron.core.base.errors import UsageError
from tessaron.core.base.paths import ELEMENT, ENTRY, MARKUP, Path, Step
from tessaron.core.base.visible import in_quotes
from tessaron.core.query.jsonpath import parse_path
from tessaron.core.query.jsonpath_syntax import Index, NameSelector, Wildcard


class LayoutPathError(ValueError):
    """A path that cannot stand in a layout."""


@dataclass(frozen=True, slots=True)
class LayoutPath:
    """A path as a layout spells it.

    Attributes:
        steps: Its steps; a position counts as a step to each element.
        picks: For each position: how many steps lead to its element, and the index, negative from the end.
        from_row: Whether it begins at the row (`@`), not at the record (`$`).
    """

    steps: Path
    picks: tuple[tuple[int, int], ...] = ()
    from_row: bool = False

    def below(self, rows: Path) -> LayoutPath:
        """Return the path from the record, for a path from a row at `rows`."""
        if not self.from_row:
            return self
        picks = tuple((count + len(rows), index) for count, index in self.picks)
        return LayoutPath((*rows, *self.steps), picks)


class LayoutPaths(Protocol):
    """Reads the paths of a layout as its format spells them; each raises `LayoutPathError`."""

    def rows(self, text: str, table: str) -> LayoutPath:
        """Return where the rows of a table stand."""

    def inner(self, text: str, is_around: bool = False) -> LayoutPath:
        """Return a path of `[structure]`, from the record, or from the document around it."""

    def column(self, text: str, level: Path, table: str) -> LayoutPath:
        """Return where the values of a table's column stand, from the record, for rows at `level`."""


class JsonLayoutPaths:
    """Reads the paths of a layout for JSON."""

    def rows(self, text: str, table: str) -> LayoutPath:
        """Return where the rows of a table stand."""
        return parse_layout_path(text)

    def inner(self, text: str, is_around: bool = False) -> LayoutPath:
        """Return a path of `[structure]`, from the record, or from the document around it."""
        return parse_layout_path(text)

    def column(self, text: str, level: Path, table: str) -> LayoutPath:
        """Return where the values of a table's column stand, from the record, for rows at `level`."""
        return parse_layout_path(text).below(level)


def path_of_text(text: str) -> Path | None:
    """Return the steps of a path as `format_path` shows it; None where that was no path of plain steps."""
    try:
        return parse_layout_path(text).steps
    except LayoutPathError:
        return None


def parse_layout_path(text: str) -> LayoutPath:
    """Return the path that `text` spells; `[*]` goes to elements, `.*` to the entries of a dictionary.

    Raises:
        LayoutPathError: With what cannot stand in it.
    """
    from_row = text.lstrip()[:1] == "@"
    spelled = "$" + text.lstrip()[1:] if from_row else text
    try:
        parsed = parse_path(spelled)
    except UsageError as error:
        raise LayoutPathError(str(error)) from error
    steps: list[Step] = []
    picks: list[tuple[int, int]] = []
    for number, segment in enumerate(parsed.segments):
        shown = parsed.text[parsed.ends[number - 1] if number else 1 : parsed.ends[number]]
        if segment.descends or len(segment.selectors) != 1:
            raise LayoutPathError(
                f"{in_quotes(shown)} of {in_quotes(text)} is for reading.records; here stands one "
                f"step after another"
            )
        match segment.selectors[0]:
            case NameSelector(name):
                # As `format_path` shows it: half surrogates are spelled out, the mark stands for itself.
                steps.append(MARKUP + name if name.startswith(MARKUP) else name)
            case Wildcard():
                steps.append(ELEMENT if "[" in shown else ENTRY)
            case Index(index):
                steps.append(ELEMENT)
                picks.append((len(steps), index))
            case _:
                raise LayoutPathError(
                    f"{in_quotes(shown)} of {in_quotes(text)}: filters and slices are for reading.records; "
                    "use keep for rows"
                )
    return LayoutPath(tuple(steps), tuple(picks), from_row)
