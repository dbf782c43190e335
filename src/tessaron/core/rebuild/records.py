"""Records made of the rows of their tables, whole columns at a time, whatever they are written in."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, NoReturn, Protocol

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from tessaron.core.base.arrays import ArrowArray, ArrowRows
from tessaron.core.base.digest_keys import digest_of_columns
from tessaron.core.base.errors import Code, DataError, Place
from tessaron.core.base.paths import ENTRY, MARKUP, format_path
from tessaron.core.base.text_lane import Int64s
from tessaron.core.plan.rest_plans import WrittenAs
from tessaron.core.rebuild.overrides import Overrides, read_rests
from tessaron.core.rebuild.places import TablePlaces, ValuePlace
from tessaron.core.rebuild.row_groups import RowGroup
from tessaron.core.tables.row_rests import ORDER_NAME
from tessaron.core.tape.occurrences import at_rows
from tessaron.core.types.json_columns import BESIDE, coalesced

ORDER_STEP = MARKUP + ORDER_NAME
"""The step to the order of what stands in an element."""
Again = Callable[[TablePlaces, ValuePlace, Any], Any]
"""Gives, for a place in rows of a table with these keys, the rows that stand again inside them."""


class Dialect(Protocol):
    """How records are written; texts are Arrow arrays of `large_string`, null where nothing stands.

    Attributes:
        is_markup: Whether it is XML.
    """

    is_markup: bool

    def value(self, values: ArrowArray, form: WrittenAs, instead: ArrowArray) -> ArrowArray:
        """Return the values of a column; `instead` is what the rest of the rows says, or None."""

    def told(self, tokens: ArrowArray) -> ArrowArray:
        """Return scalars that only the rest of the rows tells of, given as JSON."""

    def row_name(self, places: TablePlaces) -> str:
        """Return the step to what a row of a table is; empty where it has no name of its own."""

    def made(
        self,
        name: str,
        value: ArrowArray,
        members: list[tuple[str, ArrowArray]],
        row_count: int,
        order: ArrowArray,
    ) -> ArrowArray:
        """Return what stands at a place, made of its value, if it has one, and its members.

        What has the step `BESIDE` is an object whose members stand beside the others. `order` is how the
        members stand, where the rest of the rows says so; or None.
        """

    def hollow(self, name: str, tokens: ArrowArray) -> ArrowArray:
        """Return what is null or empty, given as JSON."""

    def array(self, values: ArrowArray, above: Int64s, row_count: int) -> ArrowArray:
        """Return for each row above the values that stand below it."""

    def dictionary(self, keys: ArrowArray, values: ArrowArray, above: Int64s, row_count: int) -> ArrowArray:
        """Return for each row above the entries that stand below it."""

    def row(self, places: TablePlaces, made: ArrowArray, names: ArrowArray = None) -> ArrowArray:
        """Return rows of a table, also where nothing stands in them; `names` are those of their elements."""


def records_of(places: TablePlaces, group: RowGroup, dialect: Dialect) -> ArrowArray:
    """Return the records of a group as texts.

    Args:
        places: The top table.
        group: Some of its rows, with all that stands in them.
        dialect: How they are written.
    """
    return _Maker(places, group, dialect, None).rows()


class _Maker:
    """Makes the rows of one table in a group."""

    def __init__(self, places: TablePlaces, group: RowGroup, dialect: Dialect, again: Again | None):
        self._places, self._group, self._dialect, self._again = places, group, dialect, again
        self._count = group.rows.num_rows

    def rows(self) -> ArrowArray:
        """Return each row as a text; never null."""
        places = self._places
        rest = None
        if places.rest is not None:
            rest = read_rests(self._group.rows.column(places.rest), self._dialect.is_markup)
            for steps in rest.at:
                if not (self._dialect.is_markup and steps[-1:] == (ORDER_STEP,)):
                    places.row.grow(steps)
        made: dict[int, Any] = {}
        for path, place in reversed(list(places.row.walk())):
            made[id(place)] = self._at(path, place, made, rest)
        names = None if places.element is None else self._group.rows.column(places.element)
        return self._dialect.row(places, made[id(places.row)], names)

    def _at(
        self, path: tuple[str, ...], place: ValuePlace, made: dict[int, ArrowArray], rest: Overrides | None
    ) -> ArrowArray:
        """Return what stands at a place of each row, null where nothing does."""
        instead = None if rest is None else rest.scalars(path)
        value = None if instead is None else self._dialect.told(instead)
        if place.column is not None and place.form is not None:
            value = self._dialect.value(self._column(place), place.form, instead)
        members = [
            (BESIDE if self._places.is_gathered((*path, name)) else name, made[id(below)])
            for name, below in place.members.items()
        ]
        name = path[-1] if path else self._dialect.row_name(self._places)
        is_whole = place.is_raw and value is not None
        order = rest.scalars((*path, ORDER_STEP)) if rest is not None and self._dialect.is_markup else None
        found = [value if is_whole else self._dialect.made(name, value, members, self._count, order)]
        if place.elements is not None:
            found.append(self._array(place.elements))
        if place.entries is not None:
            found.append(self._entries(place.entries))
        if place.again is not None and self._again is not None:
            keys = self._group.rows.column(self._places.table.row_key)
            found.append(self._again(self._places, place, keys))
        if not self._dialect.is_markup:
            own = [value] if value is not None and members and not is_whole else []
            self._check_one(path, [*own, *found[1:]] if own else found)
            for _, each in members if own else ():
                self._check_one(path, [*own, each])
        hollow = None if rest is None else rest.hollow(path)
        if hollow is not None:
            found.append(self._dialect.hollow(name, hollow))
        return coalesced(*found)

    def _column(self, place: ValuePlace) -> ArrowArray:
        """Return the column whose values stand at a place, with a value or null for each row."""
        if place.beside is None:
            return self._group.rows.column(place.column)
        table = place.beside.table
        if place.beside.by:
            known = place.beside.rows
            at = _looked_up(
                [self._column(each) for each in place.beside.by],
                [known.column(name).combine_chunks() for name in table.once],
            )
            return known.column(place.column).combine_chunks().take(at)
        group = self._group.below.get(table.name)
        if group is None:
            kind = next(column.type for column in table.columns if column.name == place.column)
            return pa.nulls(self._count, kind.arrow_type())
        if (np.diff(group.above) == 0).any():
            raise DataError(
                "two rows belong to one row, where one can", Place(table.name), Code.CONTRADICTION
            )
        return at_rows(group.rows.column(place.column), group.above, self._count)

    def _check_one(self, path: tuple[str, ...], found: list[ArrowArray]) -> None:
        """Check that not two things stand at one place of a row, say a value and elements.

        Raises:
            DataError: When they do: no document has that.
        """
        taken = None
        for each in found:
            if each.null_count == len(each):
                continue
            there = each.is_valid()
            both = None if taken is None else pc.and_(taken, there)
            if both is not None and pc.any(both).as_py():
                self._contradiction(path, both)
            taken = there if taken is None else pc.or_(taken, there)

    def _contradiction(self, path: tuple[str, ...], rows: ArrowRows) -> NoReturn:
        table = self._places.table
        key = self._group.rows.column(table.row_key)[rows.index(True).as_py()].as_py()
        shown = "@" + format_path(path)[1:]
        raise DataError(
            f"the row with {table.row_key} {key} has two things at {shown}, where one can stand",
            Place(table.name, path=shown), Code.CONTRADICTION,
        )  # fmt: skip

    def _array(self, places: TablePlaces) -> ArrowArray:
        group = self._group.below.get(places.table.name)
        if group is None:
            return pa.nulls(self._count, pa.large_string())
        if places.table.within_key is not None:
            return _Recursion(places, group, self._dialect, self._again).outermost(self._count)
        values = _Maker(places, group, self._dialect, self._again).rows()
        return _arrays(self._dialect, places, group.rows, values, group.above, self._count)

    def _entries(self, places: TablePlaces) -> ArrowArray:
        group = self._group.below.get(places.table.name)
        keys = None if group is None else places.keys_of(group.rows)
        if group is None or keys is None:
            return pa.nulls(self._count, pa.large_string())
        if keys.null_count:
            name = places.table.name
            raise DataError("an entry of a dictionary has no name", Place(name), Code.NO_KEY)
        if places.table.within_key is not None:
            return _Recursion(places, group, self._dialect, self._again).outermost(self._count)
        values = _Maker(places, group, self._dialect, self._again).rows()
        return self._dialect.dictionary(keys, values, group.above, self._count)


def _looked_up(values: list[ArrowArray], known: list[ArrowArray]) -> ArrowArray:
    """Return the row of each value, or of several together, among known ones; null where there is none."""
    if len(values) == 1:
        return pc.index_in(values[0], known[0])
    names = tuple(map(str, range(len(values))))
    mine, theirs = (
        digest_of_columns(pa.RecordBatch.from_arrays(columns, list(names)), names)[:, 0]
        for columns in (values, known)
    )
    return pc.index_in(pa.array(mine), pa.array(theirs))


def _arrays(
    dialect: Dialect, places: TablePlaces, batch: ArrowRows, values: ArrowArray, above: Int64s, row_count: int
) -> ArrowArray:
    """Return arrays of the rows below each row; what has ordinal 0 stands without an array.

    Where the rows are entries of a dictionary they are objects.
    """
    keys = places.keys_of(batch) if places.table.rows[-1] is ENTRY else None
    if keys is not None:
        return dialect.dictionary(keys, values, above, row_count)
    whole = dialect.array(values, above, row_count)
    ordinal = places.table.ordinal
    if ordinal is None or not len(above):
        return whole
    alone = pc.fill_null(pc.equal(batch.column(ordinal), 0), False).to_numpy(zero_copy_only=False)
    if not alone.any():
        return whole
    single = at_rows(values.filter(pa.array(alone)), above[alone], row_count)
    return pc.coalesce(single, whole)


class _Recursion:
    """Rows of a table that contains itself: made from the innermost out.

    Args:
        places: The table.
        group: Its rows, all depths together.
        dialect: How they are written.
        outer: Gives the rows of another such table around this one.
    """

    def __init__(self, places: TablePlaces, group: RowGroup, dialect: Dialect, outer: Again | None):
        self._places, self._group, self._dialect, self._outer = places, group, dialect, outer
        self._batch: Any = None
        self._values: Any = None
        self._ways = {id(place): way for way, place in places.ways.items()}

    def outermost(self, row_count: int) -> ArrowArray:
        """Return for each row above the array of the outermost rows."""
        rows: Int64s = np.empty(0, np.int64)
        for rows in reversed(self._depths()):
            part = _part_of(self._group, rows)
            self._values = _Maker(self._places, part, self._dialect, self._inside).rows()
            self._batch = part.rows
        return self._arrays(np.arange(len(rows)), self._group.above[rows], row_count)

    def _depths(self) -> list[Int64s]:
        """Return the rows of each depth, the outermost first; rows inside none of these are outermost too."""
        batch, table = self._group.rows, self._places.table
        container = pc.index_in(batch.column(str(table.within_key)), batch.column(table.row_key))
        within = container.fill_null(-1).to_numpy(zero_copy_only=False).astype(np.int64)
        deep = np.where(within < 0, 0, -1)
        found = [np.flatnonzero(within < 0)]
        while len(found[-1]):
            deeper = np.flatnonzero((deep < 0) & (within >= 0) & (deep[within] == len(found) - 1))
            deep[deeper] = len(found)
            found.append(deeper)
        return found[:-1]

    def _inside(self, holder: TablePlaces, place: ValuePlace, keys: ArrowArray) -> ArrowArray:
        if place.again is not self._places:
            return (
                pa.nulls(len(keys), pa.large_string())
                if self._outer is None
                else self._outer(holder, place, keys)
            )
        table, batch = self._places.table, self._batch
        if batch is None:
            return pa.nulls(len(keys), pa.large_string())
        reference = table.within_key if holder is self._places else table.through_key
        index = pc.index_in(batch.column(str(reference)), keys)
        chosen = index.is_valid()
        way = self._ways.get(id(place))
        if way is not None and self._places.way is not None:
            chosen = pc.and_(chosen, pc.fill_null(pc.equal(batch.column(self._places.way), way), False))
        rows = np.flatnonzero(chosen.to_numpy(zero_copy_only=False))
        above = index.fill_null(0).to_numpy(zero_copy_only=False).astype(np.int64)[rows]
        return self._arrays(rows, above, len(keys))

    def _arrays(self, rows: Int64s, above: Int64s, row_count: int) -> ArrowArray:
        """Return the arrays of some of the rows, which may come in any order, by the row above of each."""
        ordinal = self._places.table.ordinal
        numbers = rows if ordinal is None else self._batch.column(ordinal).fill_null(0).to_numpy()[rows]
        order = np.lexsort((numbers, above))
        taken = pa.array(rows[order])
        batch, values = self._batch.take(taken), self._values.take(taken)
        return _arrays(self._dialect, self._places, batch, values, above[order], row_count)


def _part_of(group: RowGroup, rows: Int64s) -> RowGroup:
    """Return some rows of a group, in rising order, with all that stands in them."""
    made = RowGroup(group.rows.take(pa.array(rows)), group.above[rows])
    pending = [(group, made, rows)]
    while pending:
        old, new, rows = pending.pop()
        places = np.full(old.rows.num_rows, -1, np.int64)
        places[rows] = np.arange(len(rows))
        for name, below in old.below.items():
            kept = np.flatnonzero(places[below.above] >= 0)
            if len(kept):
                new.below[name] = RowGroup(below.rows.take(pa.array(kept)), places[below.above[kept]])
                pending.append((below, new.below[name], kept))
    return made
