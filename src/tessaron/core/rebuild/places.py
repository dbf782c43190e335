"""Where everything in some tables stands in the documents that are made of them, as a tree of places."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from functools import reduce
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from tessaron.core.base.arrays import ArrowArray, ArrowRows
from tessaron.core.base.paths import ENTRY, Origin, Path, format_path
from tessaron.core.layout.table_set import Column, Table
from tessaron.core.plan.rest_plans import WrittenAs
from tessaron.core.tables.row_rests import is_object_by_default
from tessaron.core.tape.gathering import Gathered
from tessaron.core.types.written import texts_of


@dataclass(slots=True, eq=False)
class ValuePlace:
    """A place in a document: a value of a column, members, the rows of a table, or several of these.

    Attributes:
        column: The column whose values stand here.
        form: How they are turned back.
        is_raw: Whether the column holds all that stands here, as it is written.
        members: The places below, by the step that leads there.
        elements: The table with the elements of the array here.
        entries: The table with the entries of the dictionary here.
        again: The table whose rows stand here again, inside its own rows.
        beside: The table that the column is of, where that is another with the same rows.
    """

    column: str | None = None
    form: WrittenAs | None = None
    is_raw: bool = False
    members: dict[str, ValuePlace] = field(default_factory=dict)
    elements: TablePlaces | None = None
    entries: TablePlaces | None = None
    again: TablePlaces | None = None
    beside: TablePlaces | None = None

    def walk(self) -> Iterator[tuple[tuple[str, ...], ValuePlace]]:
        """Yield this place and all below it on the same rows, parents first, with their paths."""
        pending: list[tuple[tuple[str, ...], ValuePlace]] = [((), self)]
        while pending:
            path, place = pending.pop()
            yield path, place
            pending += [((*path, step), below) for step, below in reversed(place.members.items())]

    def grow(self, steps: Sequence[str]) -> ValuePlace:
        """Return the place that members lead to from here, made if it is not there."""
        place = self
        for step in steps:
            place = place.members.setdefault(step, ValuePlace())
        return place

    def tables(self) -> Iterator[TablePlaces]:
        """Yield the tables whose rows stand here."""
        for each in (self.elements, self.entries):
            if each is not None:
                yield each


@dataclass(slots=True, eq=False)
class TablePlaces:
    """A table, and where everything in a row of it stands.

    Attributes:
        table: The table.
        row: The row itself.
        key: The column with the name, for rows that are entries of a dictionary.
        key_form: How such names are turned back.
        rest: The column with the rest of the row.
        way: The column that says where in the row around it a row of a structure that contains itself stands.
        element: The column with the name of each record's element.
        ways: The places where such rows can stand, by the text of `way`; None is the only one.
        is_object: Whether a row without any value is an empty object, and not null.
        with_empty: As in `TurnedBack`.
        besides: The tables with other columns of the same rows.
        lookups: The tables in which columns of the row are looked up.
        by: Of such a table: where in the row what is looked up stands, in the order of its columns.
        rows: Of such a table: all its rows, once they are read.
        gathered: Trees whose nodes have come together: in documents they stand beside the fields.
    """

    table: Table
    row: ValuePlace = field(default_factory=ValuePlace)
    key: str | None = None
    key_form: WrittenAs | None = None
    rest: str | None = None
    way: str | None = None
    element: str | None = None
    ways: dict[str | None, ValuePlace] = field(default_factory=dict)
    is_object: bool = True
    with_empty: bool = False
    besides: list[TablePlaces] = field(default_factory=list)
    lookups: list[TablePlaces] = field(default_factory=list)
    by: tuple[ValuePlace, ...] = ()
    rows: Any = None
    gathered: tuple[Gathered, ...] = ()

    def is_gathered(self, path: tuple[str, ...]) -> bool:
        """Say whether the nodes of a tree have come together at a path in the rows."""
        return any(tree.holds((*self.table.rows, *path)) for tree in self.gathered)

    def standing(self, batches: Iterator[ArrowRows]) -> Iterator[ArrowRows]:
        """Yield the rows that stand for something: not those that only keep a row above.

        Such a row has no value, or no row that it would belong to.
        """
        for batch in batches:
            yield batch.filter(self._stands(batch)) if self.with_empty and batch.num_rows else batch

    def _stands(self, batch: ArrowRows) -> ArrowArray:
        keys = set(self.table.key_columns())
        values = [batch.column(name) for name in batch.schema.names if name not in keys]
        found = reduce(pc.or_, map(pc.is_valid, values)) if values else pa.repeat(True, batch.num_rows)
        if self.table.parent_key is not None:
            found = pc.and_(found, pc.is_valid(batch.column(self.table.parent_key)))
        return found

    def below(self) -> Iterator[TablePlaces]:
        """Yield the tables whose rows stand in rows of this one."""
        yield from self.besides
        for _, place in self.row.walk():
            yield from place.tables()

    def all(self) -> Iterator[TablePlaces]:
        """Yield this table and all below it, parents before children."""
        pending = [self]
        while pending:
            each = pending.pop(0)
            yield each
            pending += each.below()

    def keys_of(self, rows: ArrowRows) -> ArrowArray:
        """Return the names of rows that are entries of a dictionary, as texts; None if they are not."""
        if self.key is None or self.key_form is None:
            return None
        form = self.key_form
        return texts_of(rows.column(self.key), form.type, form.written, form.words)

    def columns(self) -> list[str]:
        """Return the columns that are needed of the table."""
        own = [place.column for _, place in self.row.walk() if place.beside is None]
        names = [
            *self.table.key_columns(),
            *own,
            self.key,
            self.rest,
            self.way,
            self.element,
            self.table.document_key,
            self.table.enclosing_key,
        ]
        return list(dict.fromkeys(name for name in names if name is not None))


@dataclass(frozen=True, slots=True)
class TurnedBack:
    """A table with the columns whose values go back to where they stood.

    Attributes:
        table: The table.
        forms: How their values are turned back, by the column's name.
        with_empty: Whether rows above without any row here have one all the same.
    """

    table: Table
    forms: dict[str, WrittenAs]
    with_empty: bool = False


def places_of_tables(
    tables: Sequence[TurnedBack], again: dict[Path, Path], gathered: tuple[Gathered, ...] = ()
) -> TablePlaces:
    """Return where everything in some tables stands.

    Args:
        tables: The tables of the records, parents before children; the first is the top one.
        again: Where a structure that contains itself stands again, with where it begins.
        gathered: Trees whose nodes have come together.
    """
    made: dict[str, TablePlaces] = {}
    # Of shared tables some may stand in the layout before those that their rows belong to.
    for each in sorted(tables, key=lambda given: (bool(given.table.once), len(given.table.rows))):
        table = each.table
        made[table.name] = TablePlaces(table, with_empty=each.with_empty, gathered=gathered)
        parent = made.get(table.parent or "")
        if table.once:
            _add_lookup(made, each)
            del made[table.name]
            continue
        if parent is not None and parent.table.rows == table.rows:
            parent.besides.append(made[table.name])
            _add_columns(parent, each, made[table.name])
        elif parent is not None:
            place = parent.row.grow(_inside(table.rows[:-1], parent.table.rows))
            if table.rows[-1:] == (ENTRY,):
                place.entries = made[table.name]
            else:
                place.elements = made[table.name]
        _add_columns(made[table.name], each)
    _add_ways(made, again)
    for places in made.values():
        paths = [(*places.table.rows, *path) for path, place in places.row.walk() if place.column is not None]
        places.is_object = is_object_by_default(places.table.rows, paths)
    return made[tables[0].table.name]


def _inside(path: Path, rows: Path) -> tuple[str, ...]:
    """Return the members that lead from a row to a place; levels without a table of their own vanish."""
    return tuple(step for step in path[len(rows) :] if isinstance(step, str))


def _add_lookup(made: dict[str, TablePlaces], given: TurnedBack) -> None:
    """Let columns of the first table with the same rows be looked up in a table."""
    table = given.table
    base = next(each for each in made.values() if each.table.rows == table.rows)
    paths = {column.name: column.path for column in table.columns}
    # The columns may be those of a table beside, with a part of the rows.
    by = tuple(base.row.grow(_inside(paths[name], table.rows)) for name in table.once)
    lookup = TablePlaces(table, by=by)
    base.lookups.append(lookup)
    others = {name: form for name, form in given.forms.items() if name not in table.once}
    _add_columns(lookup, given)
    _add_columns(base, TurnedBack(table, others), lookup)


def _add_columns(places: TablePlaces, given: TurnedBack, beside: TablePlaces | None = None) -> None:
    """Put the columns of a table where their values stand, in its rows or in those it stands beside."""
    table = places.table
    for column in given.table.columns:
        last = column.path[-1] if column.path else None
        if last is Origin.KEY and _is_own(column, table):
            places.key, places.key_form = column.name, given.forms.get(column.name)
        elif last is Origin.REST:
            places.rest = column.name
        elif last is Origin.WAY:
            places.way = column.name
        elif last is Origin.ELEMENT:
            places.element = column.name
        elif column.name in given.forms and (not isinstance(last, Origin) or last is Origin.JSON):
            steps = tuple(step for step in column.path[len(table.rows) :] if not isinstance(step, Origin))
            place = places.row.grow(_inside(steps, ()))
            place.column, place.form = column.name, given.forms[column.name]
            place.is_raw, place.beside = last is Origin.JSON, beside


def _is_own(column: Column, table: Table) -> bool:
    return column.path[:-1] == table.rows


def _add_ways(made: dict[str, TablePlaces], again: dict[Path, Path]) -> None:
    """Put a table that contains itself at the places where its rows stand again."""
    for path, begins in again.items():
        inner = next((each for each in made.values() if each.table.rows[:-1] == begins), None)
        if inner is None:
            continue
        around = [each for each in made.values() if path[: len(each.table.rows)] == each.table.rows]
        holder = max(around, key=lambda each: len(each.table.rows))
        steps = _inside(path, holder.table.rows)
        place = holder.row.grow(steps)
        place.again = inner
        way = path[len(inner.table.rows) :]
        inner.ways[format_path(way) if inner.way is not None else None] = place
