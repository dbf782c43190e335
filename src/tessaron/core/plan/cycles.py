"""Filters and calculated columns that need each other: a fold sees the rows that a filter keeps."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from tessaron.core.expressions.typed import Typed
from tessaron.core.layout.toml_lines import Keys
from tessaron.core.plan.plan import TablePlan

Need = tuple[str, str]
"""A column, as table and name; a filter has the name `keep` and a dot before it."""
_KEEP = ".keep"


def find_cycles(tables: Sequence[TablePlan]) -> Iterator[tuple[Keys, str]]:
    """Yield filters that need, through folds, what needs them: their keys, and the way round."""
    plans = {table.name: table for table in tables}
    needs = {
        (table.name, _KEEP): _needs(table.keep, table, plans) for table in tables if table.keep is not None
    }
    for table in tables:
        for column in table.columns:
            if column.value is not None:
                needs[table.name, column.name] = _needs(column.value, table, plans)
    for start in needs:
        if start[1] == _KEEP and (way := _way_back(start, needs)):
            shown = " → ".join(_shown(each) for each in (*way, start))
            yield ("tables", start[0], "keep"), f"the filter and a fold need each other: {shown}"


def _needs(tree: Typed, table: TablePlan, plans: dict[str, TablePlan]) -> set[Need]:
    found: set[Need] = set()
    for part in tree.walk():
        if part.operation == "column":
            found.add(part.detail)
        elif part.operation == "fold":
            below = plans[part.detail[1]]
            for other in plans.values():
                is_between = other.level == below.level[: len(other.level)] and len(other.level) > len(
                    table.level
                )
                if is_between and (other.level != below.level or other is below):
                    found.add((other.name, _KEEP))
    return found


def _way_back(start: Need, needs: dict[Need, set[Need]]) -> list[Need] | None:
    pending: list[list[Need]] = [[start]]
    seen = {start}
    while pending:
        way = pending.pop()
        for need in sorted(needs.get(way[-1], ())):
            if need == start:
                return way
            if need not in seen and need in needs:
                seen.add(need)
                pending.append([*way, need])
    return None


def _shown(need: Need) -> str:
    return f"keep of {need[0]}" if need[1] == _KEEP else f"{need[0]}.{need[1]}"
