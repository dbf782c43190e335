"""Paths in layouts for XML: a part of XPath 1.0, of names, attributes, `..`, `text()` and positions.

Paths of tables begin at the record (`goods/item`, `.` for the record itself), those of columns at the row
(`@no`, `weight/@unit`, `../../@id`). What repeats is seen from the tables: where rows stand, elements do.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING

from tessaron.core.base.paths import ELEMENT, ENTRY, MARKUP, TEXT_STEP, Path, Step
from tessaron.core.base.visible import in_quotes
from tessaron.core.layout.layout_paths import LayoutPath, LayoutPathError

if TYPE_CHECKING:
    from tessaron.core.layout.layout_model import ColumnPart, LayoutPart, TablePart

Names = tuple[str, ...]
_NAME = r"[^\W\d][\w.-]*"
_STEP = re.compile(
    rf"(?P<up>\.\.)|(?P<here>\.)|(?P<name>@?(?:{_NAME}:)?{_NAME})(?:\[(?P<at>[1-9][0-9]*|last\(\))\])?"
    r"|(?P<text>text\(\))|(?P<any>\*)"
)


@dataclass(frozen=True, slots=True)
class _Spelled:
    """A path as it is spelled: so many steps up, then names, with the positions asked for."""

    ups: int
    names: Names
    picks: tuple[tuple[int, int], ...] = ()


class XmlLayoutPaths:
    """Reads the paths of one layout, of the tables around the records apart from the others.

    Args:
        part: The layout.
    """

    def __init__(self, part: LayoutPart) -> None:
        self._around = {name for name, table in part.tables.items() if table.around}
        structure, inside = part.structure, {name: t for name, t in part.tables.items() if not t.around}
        self._inside = _PathsOfTables(inside, structure.again, structure.arrays)
        self._outside = _PathsOfTables(
            {name: part.tables[name] for name in self._around}, structure.again_around, ()
        )

    def _of(self, table: str) -> _PathsOfTables:
        return self._outside if table in self._around else self._inside

    def rows(self, text: str, table: str) -> LayoutPath:
        """Return where the rows of a table stand."""
        return self._of(table).rows(text)

    def inner(self, text: str, is_around: bool = False) -> LayoutPath:
        """Return a path of `[structure]`, from the record, or from the document around it."""
        return (self._outside if is_around else self._inside).inner(text)

    def column(self, text: str, level: Path, table: str) -> LayoutPath:
        """Return where the values of a table's column stand, from the record, for rows at `level`."""
        return self._of(table).column(text, level)


class _PathsOfTables:
    """Reads the paths of some tables, which together tell what repeats and what has text beside parts."""

    def __init__(
        self, tables: Mapping[str, TablePart], again: Mapping[str, str], arrays: Iterable[str]
    ) -> None:
        self._levels: set[Names] = set()
        self._holders: set[Names] = {()}
        self._rows: dict[str, list[Names]] = {}
        for table, each in tables.items():
            texts = each.rows if isinstance(each.rows, list) else [each.rows or "."]
            self._rows[table] = [found.names for found in _tried(each.parallel or texts)]
            self._levels |= {names for names in self._rows[table] if names}
        self._levels |= {found.names for found in _tried([*arrays, *again.values()])}
        for table, each in tables.items():
            for column in each.columns.values():
                for rows in self._rows[table]:
                    self._learn(rows, column)
        for names in [*self._levels, *(found.names for found in _tried(again))]:
            self._hold(names)

    def _learn(self, rows: Names, column: ColumnPart) -> None:
        for found in _tried([column.path] if column.path is not None else []):
            if found.ups > len(rows):
                continue
            base = rows[: len(rows) - found.ups]
            names = base + found.names
            for count, _ in found.picks:
                self._levels.add(base + found.names[:count])
            if column.fold or column.flags or column.numbered:
                element = names if not names[-1:] or names[-1][0] != "@" else names[:-1]
                if not any(names[:count] in self._levels for count in range(len(rows) + 1, len(names) + 1)):
                    self._levels.add(element)
            self._hold(names)

    def _hold(self, names: Names) -> None:
        """Remember that what these names lead through holds more than text."""
        self._holders |= {names[:count] for count in range(len(names))}

    def rows(self, text: str) -> LayoutPath:
        """Return where the rows of a table stand.

        Raises:
            LayoutPathError: With what cannot stand in it.
        """
        found = _parsed(text)
        if found.ups or (found.names and found.names[-1][0] == "@"):
            raise LayoutPathError(f"{in_quotes(text)}: rows are elements, by their path from the record")
        return LayoutPath(self._path(found.names), self._picks((), found))

    def inner(self, text: str) -> LayoutPath:
        """Return a path from the record to elements as a whole, be they one or several.

        Raises:
            LayoutPathError: With what cannot stand in it.
        """
        path = self.rows(text).steps
        return LayoutPath(path[:-1] if path[-1:] == (ELEMENT,) else path)

    def column(self, text: str, level: Path) -> LayoutPath:
        """Return where the values of a column stand, from the record.

        Args:
            text: The path, from the row.
            level: Where the rows stand.

        Raises:
            LayoutPathError: With what cannot stand in it.
        """
        found = _parsed(text)
        base, made = self._base(level)
        if found.ups > len(base):
            spelled = "../" * (found.ups - len(base)) + "/".join(found.names)
            return LayoutPath((MARKUP + spelled.rstrip("/"),))
        if made and found.ups:
            raise LayoutPathError(
                f"{in_quotes(text)}: rows that are brought together have no one element above them"
            )
        names = base[: len(base) - found.ups] + found.names
        path = self._path(names)
        if made:
            path = (*level, *path[len(self._path(base)) :])
        if names in self._holders and (not names or names[-1][0] != "@"):
            path = (*path, TEXT_STEP)
        return LayoutPath(path, self._picks(base[: len(base) - found.ups], found))

    def _base(self, level: Path) -> tuple[Names, bool]:
        """Return the names on the way to rows, and whether these are brought together from several places."""
        for step in level:
            if isinstance(step, str) and step.startswith("\0"):
                rows = self._rows.get(step[1:]) or [()]
                return rows[0], True
        return tuple(step[1:] for step in level if isinstance(step, str)), False

    def _path(self, names: Names) -> Path:
        steps: list[Step] = []
        for count, name in enumerate(names, 1):
            steps.append(ENTRY if name == "*" else MARKUP + name)
            if names[:count] in self._levels:
                steps.append(ELEMENT)
        return tuple(steps)

    def _picks(self, base: Names, found: _Spelled) -> tuple[tuple[int, int], ...]:
        return tuple((len(self._path(base + found.names[:count])), index) for count, index in found.picks)


def relative_path(path: Path, rows: Path) -> str:
    """Return a path of XML as a layout spells it in a table with these rows."""
    names = [step[1:] for step in path if isinstance(step, str) and step != TEXT_STEP]
    above = [step[1:] for step in rows if isinstance(step, str)]
    same = 0
    while same < min(len(names), len(above)) and names[same] == above[same]:
        same += 1
    return "/".join([*[".."] * (len(above) - same), *names[same:]]) or "."


def _tried(texts: Iterable[str]) -> Iterator[_Spelled]:
    """Yield the paths that can be read; mistakes are said where each is used."""
    for text in texts:
        try:
            yield _parsed(text)
        except LayoutPathError:
            continue


def _parsed(text: str) -> _Spelled:
    steps = text.strip().split("/")
    ups = 0
    names: list[str] = []
    picks: list[tuple[int, int]] = []
    for number, shown in enumerate(steps):
        found = _STEP.fullmatch(shown.strip())
        if found is None or (found["up"] and names) or (found["text"] and number < len(steps) - 1):
            what = f"{in_quotes(shown)} of {in_quotes(text)}" if shown else repr(text)
            raise LayoutPathError(
                f"{what}: expected names, @names, positions such as [1], `..` in front or text() at the end; "
                "filters are for reading.records, use keep for rows"
            )
        ups += bool(found["up"])
        if found["name"] or found["any"]:
            names.append(found["name"] or "*")
        if found["at"]:
            picks.append((len(names), -1 if found["at"] == "last()" else int(found["at"]) - 1))
    return _Spelled(ups, tuple(names), tuple(picks))
