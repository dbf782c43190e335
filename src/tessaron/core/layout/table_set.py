"""The layout: which tables, columns, keys and types come out. Plain data."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from typing import Literal

import pyarrow as pa

from tessaron.core.base.arrays import ArrowSchema, ArrowType
from tessaron.core.base.paths import ENCLOSING, Origin, Path
from tessaron.core.types.column_types import ColumnType
from tessaron.core.types.readings import Reading

ROW_KEY, PARENT_KEY, ORDINAL = "row_key", "parent_key", "ordinal"
WITHIN_KEY, THROUGH_KEY = Origin.WITHIN.value, Origin.THROUGH.value
"""The names of the key columns, unless the data has a field of that name."""
PLACE = "place"
"""The name of the column that says at which of its places a row of a shared table stands."""
_NUMBER = "\0"
"""What stands before the number of a place, in the names of the tables that are written as one."""


@dataclass(frozen=True, slots=True)
class Column:
    """One column that comes from the data.

    Attributes:
        name: Its name in the table.
        path: Where its values stand, from the record down.
        type: What it holds.
        reading: How its texts are read into `type`; None when they are kept, or come as numbers.
        note: Why the type is wider than expected, for people; or empty.
        shown: How a layout spells its path or expression; empty when it was drafted.
        written: How its values stand in the source (see `types.written`); empty if it goes without saying.
    """

    name: str
    path: Path
    type: ColumnType
    reading: Reading | None = None
    note: str = ""
    shown: str = ""
    written: str = ""

    def words(self) -> tuple[str, str] | None:
        """Return the words for true and false, where texts were read as booleans."""
        if self.reading is None or self.reading.name != "boolean":
            return None
        yes, _, no = self.reading.separator.partition("/")
        return yes, no


def member_name(shared: str, number: int) -> str:
    """Return the name, while rows are made, of the table with the rows at one place of a shared table."""
    return f"{shared}{_NUMBER}{number}"


def written_name(name: str) -> str:
    """Return the name under which a table is written: for those of one shared table, the name of that."""
    return name.partition(_NUMBER)[0]


def written_column(name: str) -> str:
    """Return the name under which a column is written, both as `table.column`; of a table, that of it."""
    table, number, rest = name.partition(_NUMBER)
    return name if not number else table + rest.lstrip("0123456789")


@dataclass(frozen=True, slots=True)
class SharedPlace:
    """One of the places at which the rows of a shared table stand.

    Attributes:
        path: As the layout spells it, and the column says it.
        parent: The table, as it is written, whose rows these belong to; None for none.
    """

    path: str
    parent: str | None


@dataclass(frozen=True, slots=True)
class Table:
    """One table: a level of the structure, with its key columns first.

    Attributes:
        name: Its name.
        rows: The path of the level whose rows it has; empty for the records.
        parent: Name of the table its rows belong to; None for the top table.
        row_key: Name of the primary key column, dense from 1.
        parent_key: Name of the foreign key column; None for the top table.
        ordinal: Name of the column with the position in the array, from 1, or 0 for an object that stands
            without one; None for the top table.
        columns: The columns of the data.
        within_key: Only for a structure that contains itself: name of the column with the row of this table
            that a row stands in; null for the outermost.
        through_key: Only where it contains itself through another array: name of the column with the row of
            the table between.
        through: Name of that table.
        document_key: Only for records inside an envelope: name of the column with the row of `documents`.
        documents: Name of the table with a row for each document.
        enclosing_key: Only for records of XML where documents have several of the elements around them: name
            of the column with the row of `enclosing`.
        enclosing: Name of the table with a row for each of those.
        only_filled: Whether it has only rows in which one of its columns has a value.
        once: The columns whose values have one row each: a table that others look up in; none for others.
        is_single: Whether its rows are objects, of which each row above has one at most.
        why: Why it is a table of its own, where neither an array nor a dictionary says so.
        key_type: `integer` for sequence keys, `text` for digests; the ordinal is an integer always.
        place_key: Of a shared table: name of the column with the place of a row.
        place: Of a table with the rows at one place of a shared one: this place, as that column says it.
        looked_up_at: Of a table with `once` and `place`: the path of the objects that its values stand in.
        places: Of a shared table: all of them. `parent` is that of the first then.
    """

    name: str
    rows: Path
    parent: str | None
    row_key: str
    parent_key: str | None
    ordinal: str | None
    columns: tuple[Column, ...]
    within_key: str | None = None
    through_key: str | None = None
    through: str | None = None
    document_key: str | None = None
    documents: str | None = None
    key_type: Literal["integer", "text"] = "integer"
    nullable_keys: tuple[str, ...] = ()
    """Key columns that may be null: where rows above stay without rows here."""
    enclosing_key: str | None = None
    enclosing: str | None = None
    only_filled: bool = False
    once: tuple[str, ...] = ()
    is_single: bool = False
    why: str = ""
    place_key: str | None = None
    place: str = ""
    places: tuple[SharedPlace, ...] = ()
    looked_up_at: Path = ()

    def key_columns(self) -> list[str]:
        """Return the names of the key columns, in their order."""
        place = self.place_key if self.places else None
        names = (self.row_key, place, self.parent_key, self.within_key, self.through_key, self.ordinal)
        return [name for name in names if name is not None]

    def parents(self) -> list[str]:
        """Return the tables whose rows these belong to: several only of a shared table."""
        found = [place.parent for place in self.places] if self.places else [self.parent]
        return [name for name in dict.fromkeys(found) if name is not None]

    def only_parent(self) -> str | None:
        """Return the table whose rows these belong to; None at the top, and where it depends on the place."""
        parents = self.parents()
        return parents[0] if len(parents) == 1 else None

    def refers_by_place(self) -> bool:
        """Say whether it depends on the place of a row in which table the row is that it belongs to."""
        return len(self.parents()) > 1

    def key_type_of(self, name: str) -> Literal["integer", "text"]:
        """Return the type of a key column."""
        if name == self.ordinal:
            return "integer"
        return "text" if self.places and name == self.place_key else self.key_type

    def _key_arrow_type(self, name: str) -> ArrowType:
        return pa.int64() if self.key_type_of(name) == "integer" else pa.large_string()

    def references(self) -> list[tuple[str, str]]:
        """Return the columns that hold the primary key of another table's row, with that table's name.

        Of a shared table whose rows belong to several tables the column for that is none of them.
        """
        pairs = (
            (self.parent_key, self.only_parent()),
            (self.within_key, self.name),
            (self.through_key, self.through),
            (self.document_key, self.documents),
            (self.enclosing_key, self.enclosing),
        )
        return [(column, table) for column, table in pairs if column is not None and table is not None]

    def outwards(self) -> int | None:
        """Return how many elements further out than the innermost those of `enclosing` are; None without."""
        for column in self.columns:
            if column.name == self.enclosing_key:
                return ENCLOSING.index(column.path[-1])
        return None

    def arrow_schema(self) -> ArrowSchema:
        """Return the Arrow schema: key columns, then the columns of the data."""
        nullable = (self.within_key, self.through_key, *self.nullable_keys)
        keys = [
            pa.field(name, self._key_arrow_type(name), nullable=name in nullable)
            for name in self.key_columns()
        ]
        return pa.schema(keys + [pa.field(column.name, column.type.arrow_type()) for column in self.columns])


@dataclass(frozen=True, slots=True)
class TableSet:
    """All tables, parents before children.

    Attributes:
        tables: The tables.
        natural_key: Columns of the top table that say which record it is, and that digest keys are made of;
            empty for none: these are made of the record's text then.
        exact: Whether the rest of each row is kept with all that is null or empty (see `tables.row_rests`).
    """

    tables: tuple[Table, ...]
    natural_key: tuple[str, ...] = ()
    exact: bool = False

    @property
    def has_digest_keys(self) -> bool:
        """Whether keys are digests."""
        return self.tables[0].key_type == "text"


def by_written_name(tables: Iterable[Table]) -> dict[str, list[Table]]:
    """Return tables by the name under which they are written: those of one shared table together."""
    groups: dict[str, list[Table]] = {}
    for table in tables:
        groups.setdefault(written_name(table.name), []).append(table)
    return groups


def written_tables(tables: Iterable[Table]) -> tuple[Table, ...]:
    """Return tables as they are written: those with the rows at the places of a shared one are one."""
    return tuple(
        group[0] if group[0].name == name else _shared(name, group)
        for name, group in by_written_name(tables).items()
    )


def _shared(name: str, members: list[Table]) -> Table:
    first = members[0]
    parent, through = (None if each is None else written_name(each) for each in (first.parent, first.through))
    if first.once:
        return replace(first, name=name)
    places = tuple(
        SharedPlace(each.place, None if each.parent is None else written_name(each.parent))
        for each in members
    )
    return replace(first, name=name, parent=parent, through=through, places=places, place="")
