"""What a diagram shows of tables: boxes with lines for columns, links between a key and what refers to it."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass

from tessaron.core.base.paths import Path
from tessaron.core.layout.layout_model import LayoutPart, TablePart
from tessaron.core.layout.table_set import Table

_ALL_ROWS = ("[*]", ".*", "]")
"""How the path of a level of JSON ends that may have several rows for each row above."""


@dataclass(frozen=True, slots=True)
class BoxLine:
    """One column in a box: its name, its type, its role: `key`, `link` to one, `position`, or none."""

    name: str
    type: str
    role: str = ""


@dataclass(frozen=True, slots=True)
class Box:
    """One table: its name, its columns with the keys first, and its rows where they were counted."""

    name: str
    lines: tuple[BoxLine, ...]
    rows: int | None = None


@dataclass(frozen=True, slots=True)
class Link:
    """A column of one table (`many`) that says which row of another (`one`) is meant; itself, or another.

    Attributes:
        one, many: The tables.
        column: The column of `many`.
        is_single: Whether each row of `one` has one row of `many` at most.
        looked_up_by: The column of `one` whose values these are, where it is not the key.
    """

    one: str
    many: str
    column: str
    is_single: bool = False
    looked_up_by: str = ""


@dataclass(frozen=True, slots=True)
class Drawn:
    """What is drawn."""

    boxes: tuple[Box, ...]
    links: tuple[Link, ...]

    def by_name(self) -> dict[str, Box]:
        """Return the boxes by their names."""
        return {box.name: box for box in self.boxes}

    @property
    def line_count(self) -> int:
        """Columns, all tables together."""
        return sum(len(box.lines) for box in self.boxes)


def drawn_tables(
    tables: Iterable[Table], singles: Collection[str] = (), rows: Mapping[str, int] | None = None
) -> Drawn:
    """Return what is drawn of tables.

    Args:
        tables: The tables as they are written.
        singles: Names of those of which each row above has one row at most.
        rows: How many rows each has, where that is known.
    """
    known = list(tables)
    boxes = tuple(_box(table, (rows or {}).get(table.name)) for table in known)
    looked_up = _looked_up(known)
    links = tuple(link for table in known for link in (*_links(table, singles), *_lookups(table, looked_up)))
    names = {box.name for box in boxes}
    return Drawn(boxes, tuple(link for link in links if link.one in names))


def _box(table: Table, rows: int | None) -> Box:
    refers = {column for column, _ in table.references()}
    refers |= {table.parent_key} if table.parent_key is not None else set()
    keys = [
        BoxLine(name, table.key_type_of(name), _role(name, table, refers)) for name in table.key_columns()
    ]
    columns = [
        BoxLine(each.name, str(each.type), "link" if each.name in refers else "") for each in table.columns
    ]
    return Box(table.name, (*keys, *columns), rows)


def _role(name: str, table: Table, refers: set[str]) -> str:
    if name == table.row_key:
        return "key"
    return "link" if name in refers else "position"


def _links(table: Table, singles: Collection[str]) -> Iterator[Link]:
    own = table.name in singles or table.is_single
    if table.refers_by_place() and table.parent_key is not None:
        for parent in table.parents():
            yield Link(parent, table.name, table.parent_key)
    for column, other in table.references():
        yield Link(other, table.name, column, own and column == table.parent_key and other != table.name)


def _looked_up(tables: Sequence[Table]) -> dict[Path, Table]:
    """Return the tables to look up in, by the path of the first of the values that they are looked up by."""
    return {
        column.path: table
        for table in tables
        for column in table.columns
        if table.once and column.name == table.once[0]
    }


def _lookups(table: Table, looked_up: Mapping[Path, Table]) -> Iterator[Link]:
    for column in table.columns if not table.once else ():
        if column.path in looked_up:
            other = looked_up[column.path]
            yield Link(other.name, table.name, column.name, looked_up_by=other.once[0])


def single_tables(part: LayoutPart) -> frozenset[str]:
    """Return the tables of a layout of which each row above has one row at most."""
    return frozenset(name for name, table in part.tables.items() if _is_single(table, part))


def _is_single(table: TablePart, part: LayoutPart) -> bool:
    if table.only_filled:
        return True
    if part.reading.format == "xml" or not isinstance(table.rows, str) or table.rows in ("$", "@"):
        return False
    return not table.around and not table.rows.endswith(_ALL_ROWS)
