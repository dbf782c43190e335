"""Drafting the tables of structures that stand at several places: drafted once, and put at each of them."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace

from tessaron.core.base.naming import Names
from tessaron.core.base.paths import Origin, Path, format_path, level_of
from tessaron.core.layout.path_spelling import rows_path
from tessaron.core.layout.table_set import Column, Table, member_name
from tessaron.core.model.likening import together
from tessaron.core.model.sharing import SharedStructure
from tessaron.core.shape.shape_node import ShapeNode


@dataclass(frozen=True, slots=True)
class SharedNode:
    """A node of a shared structure.

    Attributes:
        number: The number of the structure.
        by: The paths from here to its identity, if it has one.
        whole: Of one with an identity: what was seen at all places, so that what refers to it has one type.
    """

    number: int
    by: tuple[Path, ...] = ()
    whole: ShapeNode | None = None


@dataclass(frozen=True, slots=True)
class FoundPlace:
    """A place of a shared structure.

    Attributes:
        number: The number of the structure.
        path: Of its rows; where it has an identity, of the object.
        parent: The table that the rows belong to, or that the object stands in.
    """

    number: int
    path: Path
    parent: str


Drafted = tuple[list[Table], list[FoundPlace]]
DraftRows = Callable[[ShapeNode, str, Mapping[int, SharedNode]], Drafted]
"""Drafts the tables of the rows of a structure, with paths from the row, and finds other structures in it:
takes the structure, the name of its table, and which of its nodes stand for such a one, by `id`."""


class SharedTables:
    """The tables of the shared structures of a shape.

    Args:
        record: The settled shape.
        structures: The structures.
        names: Names of tables that are taken.
        draft: Drafts the tables of one structure.

    Attributes:
        places: The nodes at which the structures stand, by `id`.
    """

    def __init__(
        self, record: ShapeNode, structures: Sequence[SharedStructure], names: Names, draft: DraftRows
    ):
        self._record, self._structures, self._names, self._draft = record, structures, names, draft
        self.places: dict[int, SharedNode] = {}
        for number, each in enumerate(structures):
            self.places |= dict.fromkeys(map(id, each.nodes), _shared_node(number, each))
        self._drafted: dict[int, Drafted] = {}
        self._counts: dict[int, int] = {}

    def at(self, found: Iterable[FoundPlace]) -> Iterator[Table]:
        """Yield the tables at some places, and those at all places within, parents before children."""
        pending = list(found)
        while pending:
            place = pending.pop(0)
            tables, inner = self._of(place.number)
            count = self._counts[place.number] = self._counts.get(place.number, 0) + 1
            row = self._record.at(place.path)
            if self._structures[place.number].by:
                yield self._looked_up(tables[0], place, count)
                continue
            for table in tables:
                if row.find(table.rows) is not None:
                    yield self._placed(table, place, count)
            for each in inner:
                node = row.find(each.path)
                if node is not None and id(node) in self.places:
                    path, parent = (*place.path, *each.path), member_name(each.parent, count)
                    pending.append(FoundPlace(each.number, path, parent))

    def _of(self, number: int) -> Drafted:
        if number not in self._drafted:
            structure = self._structures[number]
            node, known = together(structure.nodes, self.places)
            # The rows themselves are of this structure, not a place within it.
            known.pop(id(node))
            name = self._names.claim(structure.name, otherwise="shared")
            self._drafted[number] = self._draft(node, name, known)
        return self._drafted[number]

    def _placed(self, table: Table, place: FoundPlace, count: int) -> Table:
        rows = (*place.path, *table.rows)
        return replace(
            table,
            name=member_name(table.name, count),
            rows=rows,
            parent=place.parent if not table.rows else member_name(str(table.parent), count),
            columns=_at(table.columns, place.path),
            place=rows_path(rows, self._record),
            why="" if table.rows else self._why(place.number),
        )

    def _looked_up(self, table: Table, place: FoundPlace, count: int) -> Table:
        """Return the table in which each value of the identity has one row."""
        by = self._structures[place.number].by
        columns = tuple(column for column in table.columns if column.path[-1:] != (Origin.REST,))
        return Table(
            member_name(table.name, count),
            level_of(place.path),
            None,
            table.row_key,
            None,
            None,
            _at(columns, place.path),
            once=tuple(column.name for path in by for column in columns if column.path == path),
            place=rows_path(place.path, self._record),
            looked_up_at=place.path,
            why=self._why(place.number),
        )

    def _why(self, number: int) -> str:
        structure = self._structures[number]
        count = len(structure.nodes)
        if structure.by:
            fields = " and ".join(format_path(path).removeprefix("$.") for path in structure.by)
            verb = "decides" if len(structure.by) == 1 else "decide"
            return f"the same structure at {count:,} places, where {fields} {verb} all else; {structure.why}"
        rows = sum(level.row_count for level in structure.nodes)
        return f"the same structure at {count:,} places, {rows:,} rows; {structure.why}"


def _shared_node(number: int, structure: SharedStructure) -> SharedNode:
    if not structure.by:
        return SharedNode(number)
    whole, _ = together(structure.nodes, {})
    return SharedNode(number, structure.by, whole)


def _at(columns: Iterable[Column], path: Path) -> tuple[Column, ...]:
    return tuple(replace(column, path=(*path, *column.path)) for column in columns)
