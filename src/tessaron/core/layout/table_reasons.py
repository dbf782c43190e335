"""Why each drafted table is one: the rule, the figures, and what in the layout says otherwise."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from tessaron.core.base.kinds import Kind
from tessaron.core.base.paths import ENTRY, format_path
from tessaron.core.layout.path_spelling import path_below
from tessaron.core.layout.table_set import Table, TableSet, by_written_name, written_name
from tessaron.core.shape.shape_node import TOO_MANY_NAMES, ShapeNode


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
    groups = by_written_name(tables.tables)
    return {name: _reason(group, by_name, record) for name, group in groups.items()}


def _reason(group: Sequence[Table], by_name: Mapping[str, Table], record: ShapeNode) -> TableReason:
    """Return why a table is one, given as it is, or as those with the rows at each of its places."""
    table = group[0]
    parent = None if table.parent is None else by_name[table.parent]
    levels = [record.at(each.rows) for each in group]
    rows = sum(level.row_count for level in levels)
    if table.once and table.place:
        return TableReason(table.why, "as columns wherever it stands: --not-shared")
    if table.once:
        return TableReason(table.why, "as columns: move their lines to where it is looked up")
    if parent is None or not table.rows:
        if table.why and parent is not None:
            return TableReason(table.why, _moved(parent))
        return TableReason(f"the records, {rows:,} of them")
    if table.why:
        is_shared = bool(table.place)
        return TableReason(table.why, "a table for each place: --not-shared" if is_shared else _moved(parent))
    owners, place = [record.at(each.rows[:-1]) for each in group], format_path(table.rows[:-1])
    inside = path_below(table.rows[:-1], parent.rows)
    form = "xml" if record.is_markup else "json"
    as_json = f'as one column of {written_name(parent.name)}: {{ path = "{inside}", type = "{form}" }}'
    if owners[0].is_gathered:
        names, root = _count_of_names(owners), format_path(table.rows[:-2])
        otherwise = f"as columns, drafted with --no-dictionary '{root}'"
        return TableReason(f"a tree: {names} names are nodes, {rows:,} of them", otherwise)
    if table.within_key is not None:
        return TableReason(f"a structure that contains itself, {rows:,} rows", as_json)
    if table.rows[-1] is ENTRY:
        count = _count_of_names(owners)
        otherwise = f'as columns: not_dictionaries = ["{place}"] under [structure]'
        return TableReason(f"a dictionary: {count} names are data, {rows:,} entries", otherwise)
    above = sum(record.at(by_name[str(each.parent)].rows).row_count for each in group)
    return TableReason(_of_arrays(owners, rows, above), as_json)


def _count_of_names(owners: Sequence[ShapeNode]) -> str:
    names = max(owner.name_count for owner in owners)
    return f"{names:,}" if names < TOO_MANY_NAMES else "very many"


def _of_arrays(owners: Sequence[ShapeNode], elements: int, rows: int) -> str:
    arrays = sum(owner.counts[Kind.ARRAY] for owner in owners)
    singles = sum(owner.counts[Kind.OBJECT] for owner in owners)
    text = f"an array in {arrays:,} of {rows:,} rows, {elements:,} elements"
    return text + (f"; {singles:,} single objects stand in the place of one" if singles else "")


def _moved(parent: Table) -> str:
    return f"as columns of {parent.name}: move their lines there, or draft with --undivided"
