"""The rows at all places of a shared table, brought together: record by record, with the place of each."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import replace

import numpy as np
import pyarrow as pa

from tessaron.core.base.arrays import ArrowArray, ArrowRows, array_of
from tessaron.core.base.text_lane import Int64s
from tessaron.core.layout.table_set import Table, written_column
from tessaron.core.plan.plan import LayingPlan
from tessaron.core.tables.laid import Laid
from tessaron.core.tables.numbering import with_numbers
from tessaron.core.tables.problems import Told


def share(laid: Laid, plan: LayingPlan, records: Mapping[str, Int64s]) -> None:
    """Bring together, in what became of a fragment, what is written as one table.

    Rows stand in the order of their records, and there in that of the places: so it does not depend on how
    the source was cut into chunks.

    Args:
        laid: Is changed: its rows, and all that it tells by the names of tables.
        plan: The layout.
        records: For each table with the rows at one place, the record of each row.
    """
    orders = {name: _order(members, records) for name, members in plan.shared.items()}
    if not plan.has_digest_keys:
        numbers = _numbers(plan.shared, orders, laid.batches)
        for table in (each.table for each in plan.tables if each.table is not None):
            laid.batches[table.name] = with_numbers(laid.batches[table.name], table, numbers)
    for table in plan.written().tables:
        members = plan.shared.get(table.name)
        if members is not None:
            parts = [laid.batches.pop(each.name) for each in members]
            laid.batches[table.name] = _joined(parts, table, orders[table.name])
            if laid.records:
                rows = np.concatenate([laid.records.pop(each.name) for each in members])
                laid.records[table.name] = rows[orders[table.name]]
    laid.problems = [_as_written(each) for each in laid.problems]
    laid.met = frozenset(map(written_column, laid.met))
    for name in ("filtered", "read", "gone", "unfit"):
        setattr(laid, name, _added_up(getattr(laid, name)))


def _order(members: Sequence[Table], records: Mapping[str, Int64s]) -> Int64s:
    """Return where in the rows of all members, one after the other, the rows of their table stand."""
    return np.argsort(np.concatenate([records[each.name] for each in members]), kind="stable")


def _numbers(
    shared: Mapping[str, Sequence[Table]], orders: Mapping[str, Int64s], batches: Mapping[str, ArrowRows]
) -> dict[str, Int64s]:
    """Return for each member the number that each of its rows has in the shared table, from 1."""
    found: dict[str, Int64s] = {}
    for name, members in shared.items():
        numbers = np.empty(len(orders[name]), np.int64)
        numbers[orders[name]] = np.arange(1, len(numbers) + 1)
        start = 0
        for each in members:
            count = batches[each.name].num_rows
            found[each.name] = numbers[start : start + count]
            start += count
    return found


def _joined(parts: Sequence[ArrowArray], table: Table, order: Int64s) -> ArrowArray:
    filled = [each for each in parts if each.num_rows] or list(parts[:1])
    rows = pa.Table.from_batches(filled)
    if table.places:
        spelled = pa.array([place.path for place in table.places], pa.large_string())
        places = np.repeat(np.arange(len(parts)), [each.num_rows for each in parts])
        at = table.key_columns().index(str(table.place_key))
        rows = rows.add_column(at, table.arrow_schema().field(at), spelled.take(array_of(places)))
    rows = rows.combine_chunks()
    if len(filled) > 1:
        rows = rows.take(array_of(order)).combine_chunks()
    arrays = [column.chunk(0) if column.num_chunks else pa.array([], column.type) for column in rows.columns]
    return pa.RecordBatch.from_arrays(arrays, schema=table.arrow_schema())


def _as_written(told: Told) -> Told:
    cases = tuple(replace(case, name=written_column(case.name)) for case in told.cases)
    return replace(told, name=written_column(told.name), cases=cases)


def _added_up(counts: Counter[str]) -> Counter[str]:
    found: Counter[str] = Counter()
    for name, count in counts.items():
        found[written_column(name)] += count
    return found
