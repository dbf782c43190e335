"""Drafting the tables of structures that stand at several places: drafted once, and put at each of them."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace

from tessaron.core.base.naming import Names
from tessaron.core.base.paths import Path
from tessaron.core.layout.path_spelling import rows_path
from tessaron.core.layout.table_set import Table, member_name
from tessaron.core.model.likening import together
from tessaron.core.model.sharing import SharedStructure
from tessaron.core.shape.shape import ShapeNode


@dataclass(frozen=True, slots=True)
class FoundPlace:
    """A place of a shared structure: its number, the path of its rows, the table that they belong to."""

    number: int
    rows: Path
    parent: str


DraftRows = Callable[[ShapeNode, str, Mapping[int, int]], tuple[list[Table], list[FoundPlace]]]
"""Drafts the tables of the rows of a structure, with paths from the row, and finds other structures in it:
takes the structure, the name of its table, and which of its nodes stand for such a one, by `id`."""


class SharedTables:
    """The tables of the shared structures of a shape.

    Args:
        record: The settled shape.
        structures: The structures.
        names: Names of tables that are taken.
        draft: Drafts the tables of one structure.
    """

    def __init__(
        self, record: ShapeNode, structures: Sequence[SharedStructure], names: Names, draft: DraftRows
    ):
        self._record, self._structures, self._names, self._draft = record, structures, names, draft
        self.numbers = {id(node): number for number, each in enumerate(structures) for node in each.levels}
        self._drafted: dict[int, tuple[list[Table], list[FoundPlace]]] = {}
        self._counts: dict[int, int] = {}

    def at(self, found: Iterable[FoundPlace]) -> Iterator[Table]:
        """Yield the tables at some places, and those at all places within, parents before children."""
        pending = list(found)
        while pending:
            place = pending.pop(0)
            tables, inner = self._of(place.number)
            count = self._counts[place.number] = self._counts.get(place.number, 0) + 1
            level = self._record.at(place.rows)
            for table in tables:
                if level.find(table.rows) is not None:
                    yield self._placed(table, place, count)
            for each in inner:
                node = level.find(each.rows)
                if node is not None and id(node) in self.numbers:
                    rows, parent = (*place.rows, *each.rows), member_name(each.parent, count)
                    pending.append(FoundPlace(each.number, rows, parent))

    def _of(self, number: int) -> tuple[list[Table], list[FoundPlace]]:
        if number not in self._drafted:
            structure = self._structures[number]
            node, numbers = together(structure.levels, self.numbers)
            # The rows themselves are of this structure, not a place within it.
            numbers.pop(id(node))
            name = self._names.claim(structure.name, otherwise="shared")
            self._drafted[number] = self._draft(node, name, numbers)
        return self._drafted[number]

    def _placed(self, table: Table, place: FoundPlace, count: int) -> Table:
        rows = (*place.rows, *table.rows)
        columns = tuple(replace(column, path=(*place.rows, *column.path)) for column in table.columns)
        return replace(
            table,
            name=member_name(table.name, count),
            rows=rows,
            parent=place.parent if not table.rows else member_name(str(table.parent), count),
            columns=columns,
            place=rows_path(rows, self._record),
            why="" if table.rows else self._why(place.number),
        )

    def _why(self, number: int) -> str:
        structure = self._structures[number]
        rows = sum(level.row_count for level in structure.levels)
        return f"the same structure at {len(structure.levels):,} places, {rows:,} rows; {structure.why}"
