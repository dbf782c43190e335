"""What of a fragment is counted: what stood there, what is not written, what has no column."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping
from typing import Any

import numpy as np

from tessaron.core.base.kinds import SCALAR_KINDS, Kind
from tessaron.core.base.paths import ELEMENT, Origin, Path, format_path
from tessaron.core.base.text_lane import Bools, Int64s
from tessaron.core.plan.plan import ColumnPlan, LayingPlan, is_turned_back
from tessaron.core.tables.columns import Columns
from tessaron.core.tables.laid import Laid
from tessaron.core.tables.levels import Levels
from tessaron.core.tables.row_batches import RowBatches
from tessaron.core.tape.fragment import Node, Role
from tessaron.core.tape.occurrences import without_empty_texts


def count_read(
    laid: Laid, levels: Levels, plan: LayingPlan, batches: RowBatches, unfit: Mapping[str, Int64s]
) -> None:
    """Count what stood at tables and columns whose rows are simply those of their level."""
    for table in plan.tables:
        if table.table is None or table.is_flat or table.once:
            continue
        kept = np.zeros(levels.row_count(table.level), np.bool_)
        kept[batches.rows(table).at(table.level)] = True
        laid.read[table.name] += len(kept)
        laid.gone[table.name] += int((~kept).sum())
        for column in table.columns:
            if not column.hidden and is_turned_back(column, table) and column.source is not None:
                _count_values(laid, levels.nodes.get(column.source.path), column, kept)
                name = f"{table.name}.{column.name}"
                laid.unfit[name] += int(kept[unfit[name]].sum()) if name in unfit else 0


_IS_SCALAR: Bools = np.isin(np.arange(256), SCALAR_KINDS)
IS_NO_TEXT: Bools = _IS_SCALAR & (np.arange(256) != Kind.TEXT)
"""Which kinds are numbers or booleans."""


def _count_values(laid: Laid, node: Node | None, column: ColumnPlan, kept: Bools) -> None:
    if node is None or node.role is Role.ORIGIN:
        return
    if column.drops_empty:
        node = without_empty_texts(node)
    is_value = _IS_SCALAR[node.kinds]
    name = f"{column.table}.{column.name}"
    laid.read[name] += int(is_value.sum())
    if not kept.all():
        laid.gone[name] += int((~kept[node.rows_present()[is_value]]).sum())


def left_out(levels: Levels, plan: LayingPlan) -> Counter[str]:
    """Return the values that were parsed with others, and have no column themselves."""
    found: Counter[str] = Counter()
    for path, _, is_value in without_column(levels, plan):
        found[format_path(path)] += int(is_value.sum())
    return found


def without_column(levels: Levels, plan: LayingPlan) -> Iterator[tuple[Path, Node, Bools]]:
    """Yield the places with values that have no column, with a mask of these."""
    used = plan.used_paths
    moved = [path for change in plan.rearrangements for path in _moved(change)]
    for path, node in levels.nodes.items():
        if (
            path in used
            or (path and isinstance(path[-1], Origin))
            or any(_starts(path, each) for each in moved)
        ):
            continue
        holds_records = tuple(step for step in path if step is not ELEMENT) in plan.containers
        leaves_empty = holds_records or plan.is_drafted
        is_value = _IS_SCALAR[without_empty_texts(node).kinds if leaves_empty else node.kinds]
        if is_value.any() and (*path, Origin.JSON) not in used:
            yield path, node, is_value


def _moved(change: Any) -> list[Path]:
    """Return the places whose values a rearrangement has taken elsewhere."""
    if change.kind in ("union", "parallel"):
        return list(change.detail)
    return [change.detail] if change.kind == "named_rows" else []


def _starts(path: Path, start: Path) -> bool:
    return path[: len(start)] == start


def met_in(levels: Levels, plan: LayingPlan) -> frozenset[str]:
    """Return the tables and columns whose path stands somewhere in the fragment."""
    found = {table.name for table in plan.tables if levels.row_count(table.level)}
    for table in plan.tables:
        for column in table.columns:
            if column.source is None:
                continue
            node = levels.nodes.get(column.source.path)
            if node is not None and (len(node.kinds) or column.source.path == column.source.level):
                found.add(f"{table.name}.{column.name}")
    return frozenset(found)


def filtered_rows(columns: Columns) -> Counter[str]:
    """Return how many rows filters took away, by table."""
    found: Counter[str] = Counter()
    for table in columns.plan.tables:
        gone = int((~columns.unfiltered(table.name)).sum())
        if gone:
            found[table.name] = gone
    return found
