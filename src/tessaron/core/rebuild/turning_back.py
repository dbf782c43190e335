"""What a layout says of the way back: from its tables to the documents they are made of."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from tessaron.core.base.paths import Origin, Path
from tessaron.core.layout.layout_model import LayoutPart
from tessaron.core.layout.table_set import written_column
from tessaron.core.plan.compiling import CompiledLayout
from tessaron.core.plan.layout_rests import form_of
from tessaron.core.plan.plan import LayingPlan, is_turned_back
from tessaron.core.rebuild.places import TablePlaces, TurnedBack, places_of_tables


@dataclass(frozen=True, slots=True)
class WayBack:
    """How documents are made of the tables of a layout.

    Attributes:
        records: The table of the records, with all below it; None where no documents can be made.
        fault: Why none can be made; else empty.
        around: The table of what stands around them, with all below it; None where that is not kept.
        paths: The paths whose values come back.
        lost: Columns whose values do not go back, with the reason.
        changes: Whether the layout makes another structure of the documents.
    """

    records: TablePlaces | None
    fault: str
    around: TablePlaces | None
    paths: frozenset[Path]
    lost: dict[str, str]
    changes: bool


def way_back(compiled: CompiledLayout, part: LayoutPart, without: Mapping[str, str] | None = None) -> WayBack:
    """Return how documents are made again of the tables of a layout.

    Args:
        compiled: The layout, made ready to run.
        part: What it says.
        without: Columns, as `table.column`, that shall not go back, with the reason.
    """
    structure = part.structure
    again, again_around = (
        {
            compiled.spelling.inner(inner, is_around).steps: compiled.spelling.inner(begins, is_around).steps
            for inner, begins in given.items()
        }
        for given, is_around in ((structure.again, False), (structure.again_around, True))
    )
    lost: dict[str, str] = dict(without or {})
    records, fault = _places(compiled.records, again, lost)
    around, _ = (None, "") if compiled.around is None else _places(compiled.around, again_around, lost)
    plans = compiled.records.tables
    changes = bool(compiled.records.rearrangements) or _skips_levels(compiled.records)
    changes |= any(table.keep is not None for table in plans) or records is None
    paths = {path for path, _ in _paths(compiled.records)}
    return WayBack(records, fault, around, frozenset(paths), lost, changes)


def raw_columns(compiled: CompiledLayout) -> dict[str, str]:
    """Return the columns that hold a part of the document as it is written, and why they are looked at."""
    return {
        written_column(f"{table.name}.{column.name}"): "kept as it is written"
        for plan in (compiled.records, *(() if compiled.around is None else (compiled.around,)))
        for table in plan.tables
        for column in table.columns
        if column.type is not None and column.type.name in ("json", "xml")
    }


_FROM = (Origin.FILE, Origin.RECORD, Origin.LINE, Origin.NUMBER)


def origin_columns(compiled: CompiledLayout) -> dict[str, str]:
    """Return the columns that tell where a record comes from, with the reason to look at them."""
    return {
        written_column(f"{table.name}.{column.name}"): "where the record comes from"
        for table in compiled.records.tables
        for column in table.columns
        if column.source is not None and column.source.path[-1:] and column.source.path[-1] in _FROM
    }


def _paths(plan: LayingPlan) -> list[tuple[Path, str]]:
    return [
        (column.source.path, column.name)
        for table in plan.tables
        if table.table is not None
        for column in table.columns
        if column.source is not None and is_turned_back(column, table)
    ]


def _places(
    plan: LayingPlan, again: dict[Path, Path], lost: dict[str, str]
) -> tuple[TablePlaces | None, str]:
    """Return where everything in the tables stands, or None and why that cannot be said."""
    written = [table for table in plan.tables if table.table is not None]
    tops = [
        table.name
        for table in written
        if table.table is not None and table.table.parent is None and not table.once
    ]
    if len(tops) != 1:
        shown = ", ".join(tops) if tops else "none"
        return None, (
            f"documents are made of one table with tables below it; here nothing stands above {shown}: "
            "give the layout a table of the records"
        )
    made = []
    for table in written:
        assert table.table is not None
        forms = {}
        for column in table.columns:
            shown = written_column(f"{table.name}.{column.name}")
            if shown in lost:
                continue
            if is_turned_back(column, table):
                forms[column.name] = form_of(column)
            elif not column.hidden:
                lost[shown] = _reason(column.value is not None, column.fold)
        made.append(TurnedBack(table.table, forms, table.with_empty))
    return places_of_tables(made, again, plan.gathered), ""


def _reason(is_calculated: bool, fold: str | None) -> str:
    if is_calculated:
        return "calculated"
    return f"folded ({fold})" if fold else "changed by the layout"


def _skips_levels(plan: LayingPlan) -> bool:
    """Say whether rows stand in others that are more than one level further up, or are filtered or paired."""
    for table in plan.tables:
        if table.table is None or table.once:
            continue
        if table.is_flat or any(name != table.name for name, _ in table.output):
            return True
        if table.table.parent is None:
            if table.level:
                return True
            continue
        parent = plan.table(table.table.parent)
        between = table.level[len(parent.level) :]
        if table.level == parent.level and table.only_filled:
            continue
        if sum(not isinstance(step, (str, Origin)) for step in between) != 1 or table.is_flat:
            return True
    return False
