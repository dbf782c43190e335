"""Drafting the tables of records and of what stands around them, with what refers from one to the other."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace

from tessaron.core.base.kinds import SCALAR_KINDS
from tessaron.core.base.naming import Names
from tessaron.core.base.paths import ELEMENT, ENCLOSING, Origin, Path
from tessaron.core.layout.drafting import NameStyle, draft_layout
from tessaron.core.layout.table_set import Column, Table, TableSet
from tessaron.core.model.division import UNDIVIDED, Division
from tessaron.core.shape.shape import Shape
from tessaron.core.shape.shape_node import ShapeNode


@dataclass(frozen=True, slots=True)
class AroundRecords:
    """What stands around the records.

    Attributes:
        documents: The settled shape of the documents without their records.
        name: The name for the table of the documents.
        way: The steps from the root of XML, which is left out, to the element that the records stand in.
    """

    documents: Shape
    name: str
    way: Sequence[str] = ()


def draft_tables(
    record: ShapeNode,
    name: str,
    around: AroundRecords | None,
    style: NameStyle = "path",
    exact: bool = False,
    division: Division = UNDIVIDED,
) -> tuple[TableSet, TableSet | None]:
    """Return the layout that Tessaron proposes for records, and for what stands around them.

    Args:
        record: The settled shape of the records.
        name: Name of their table.
        around: What stands around the records; None where that is not kept.
        style: As in `draft_layout`.
        exact: As in `draft_layout`.
        division: As in `draft_layout`, of the records.
    """
    names = Names()
    tables = draft_layout(record, name, names, style=style, exact=exact, division=division)
    if around is None:
        return _without_references(tables), None
    documents = _without_blanks(
        draft_layout(around.documents.record, around.name, names, exact=exact), around
    )
    top = replace(tables.tables[0], documents=documents.tables[0].name)
    tables = replace(tables, tables=(top, *tables.tables[1:]))
    return _with_enclosing_key(tables, documents.tables, around.way), documents


def _table_around(tables: Iterable[Table], way: Sequence[str], outwards: int) -> str | None:
    """Return the table with a row for each of the elements that records stand in.

    Args:
        tables: The tables of what stands around the records.
        way: The steps from the root, which is left out, to the element that the records stand in.
        outwards: 0 for that element, 1 for the one around it, …
    """
    steps = tuple(way[: len(way) - outwards])
    for table in tables:
        # Where it contains itself it has other rows too, and a number would not be that of the row.
        if steps and table.within_key is None and _plain(table.rows) == steps and _is_level(table.rows):
            return table.name
    return None


def _with_enclosing_key(layout: TableSet, around: Sequence[Table], way: Sequence[str]) -> TableSet:
    """Return a layout with a column for every element around, with that of the nearest that is a row only."""
    top = layout.tables[0]
    found = [
        (origin, table)
        for outwards, origin in enumerate(ENCLOSING)
        if (table := _table_around(around, way, outwards)) is not None
    ][:1]
    kept = [origin for origin, _ in found]
    columns = tuple(
        column for column in top.columns if _end(column.path) not in ENCLOSING or _end(column.path) in kept
    )
    named = [column.name for column in columns if _end(column.path) in kept]
    if not named:
        return replace(layout, tables=(replace(top, columns=columns), *layout.tables[1:]))
    made = replace(top, columns=columns, enclosing_key=named[0], enclosing=found[0][1])
    return replace(layout, tables=(made, *layout.tables[1:]))


def _without_blanks(layout: TableSet, around: AroundRecords) -> TableSet:
    """Return a layout without a column for the text of elements that held nothing but records."""
    way = tuple(around.way)

    def is_blank(column: Column) -> bool:
        steps = _plain(column.path)
        node = around.documents.node_at(column.path) if steps and steps == way[: len(steps)] else None
        return node is not None and node.empty_texts == sum(node.counts[kind] for kind in SCALAR_KINDS)

    tables = tuple(
        replace(table, columns=tuple(column for column in table.columns if not is_blank(column)))
        for table in layout.tables
    )
    return replace(layout, tables=tables)


def _without_references(layout: TableSet) -> TableSet:
    """Return a layout without the columns that refer to what stands around the records."""
    top = layout.tables[0]
    gone = (Origin.DOCUMENT, *ENCLOSING)
    columns = tuple(column for column in top.columns if _end(column.path) not in gone)
    return replace(layout, tables=(replace(top, columns=columns, document_key=None), *layout.tables[1:]))


def _end(path: Path) -> Origin | None:
    return path[-1] if path and isinstance(path[-1], Origin) else None


def _plain(rows: Path) -> tuple[object, ...]:
    return tuple(step for step in rows if step is not ELEMENT)


def _is_level(rows: Path) -> bool:
    return rows[-1:] == (ELEMENT,)
