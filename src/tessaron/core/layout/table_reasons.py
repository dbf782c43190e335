"""Why each drafted table is one: the rule, the figures, and what in the layout says otherwise."""

from __future__ import annotations

from dataclasses import dataclass

from tessaron.core.base.kinds import Kind
from tessaron.core.base.paths import ENTRY, format_path
from tessaron.core.layout.path_spelling import path_below
from tessaron.core.layout.table_set import Table, TableSet, written_name
from tessaron.core.shape.shape import TOO_MANY_NAMES, ShapeNode


@dataclass(frozen=True, slots=True)
class TableReason:
    """Why a table is one.

    Attributes:
        text: The rule and the figures.
        otherwise: What would make it none; empty for the records.
    """

    text: str
    otherwise: str = ""

    def shown(self) -> str:
        """Return both in a line."""
        return f"{self.text}; {self.otherwise}" if self.otherwise else self.text


def reasons_of(tables: TableSet, record: ShapeNode) -> dict[str, TableReason]:
    """Return for each table of a draft, by name, why it is one.

    Args:
        tables: The tables.
        record: The settled shape that they were drafted from.
    """
    by_name = {table.name: table for table in tables.tables}
    found: dict[str, TableReason] = {}
    for table in tables.tables:
        name = written_name(table.name)
        if name not in found:
            found[name] = _reason(table, None if table.parent is None else by_name[table.parent], record)
    return found


def _reason(table: Table, parent: Table | None, record: ShapeNode) -> TableReason:
    level = record.at(table.rows)
    if table.once and table.place:
        return TableReason(table.why, "as columns wherever it stands: --not-shared")
    if table.once:
        return TableReason(table.why, "as columns: move their lines to where it is looked up")
    if parent is None or not table.rows:
        if table.why and parent is not None:
            return TableReason(table.why, _moved(parent))
        return TableReason(f"the records, {level.row_count:,} of them")
    if table.why:
        is_shared = bool(table.place)
        return TableReason(table.why, "a table for each place: --not-shared" if is_shared else _moved(parent))
    owner, place = record.at(table.rows[:-1]), format_path(table.rows[:-1])
    inside = path_below(table.rows[:-1], parent.rows)
    form = "xml" if record.is_markup else "json"
    as_json = f'as one column of {parent.name}: {{ path = "{inside}", type = "{form}" }}'
    rows = record.at(parent.rows).row_count
    if table.within_key is not None:
        return TableReason(f"a structure that contains itself, {level.row_count:,} rows", as_json)
    if table.rows[-1] is ENTRY:
        count = f"{owner.name_count:,}" if owner.name_count < TOO_MANY_NAMES else "very many"
        otherwise = f'as columns: not_dictionaries = ["{place}"] under [structure]'
        return TableReason(f"a dictionary: {count} names are data, {level.row_count:,} entries", otherwise)
    return TableReason(_of_arrays(owner, level, rows), as_json)


def _of_arrays(owner: ShapeNode, level: ShapeNode, rows: int) -> str:
    arrays, singles = owner.counts[Kind.ARRAY], owner.counts[Kind.OBJECT]
    text = f"an array in {arrays:,} of {rows:,} rows, {level.row_count:,} elements"
    return text + (f"; {singles:,} single objects stand in the place of one" if singles else "")


def _moved(parent: Table) -> str:
    return f"as columns of {parent.name}: move their lines there, or draft with --undivided"
