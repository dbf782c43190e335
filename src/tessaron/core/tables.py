"""Fragment and layout become tables: typed columns with dense keys."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np
import pyarrow as pa

from tessaron.core.casting import cast_column
from tessaron.core.fragment import Fragment, Node
from tessaron.core.layout import Layout, Table


@dataclass(slots=True)
class KeyCounter:
    """The rows that every table has so far: where the keys of the next fragment begin."""

    rows: dict[str, int] = field(default_factory=dict)

    def of(self, table: str) -> int:
        """Return the rows that `table` has so far."""
        return self.rows.get(table, 0)


def make_tables(fragment: Fragment, layout: Layout, keys: KeyCounter) -> dict[str, pa.RecordBatch]:
    """Return the rows that the fragment adds to each table of the layout, and move `keys` on.

    Args:
        fragment: The next fragment, in the order of the input.
        layout: The tables to make.
        keys: The rows made before; moved on by this call.

    Returns:
        A record batch for each table, in the order of the layout, with `Table.arrow_schema()`.
    """
    nodes = dict(zip(fragment.paths(), fragment.nodes, strict=True))
    batches = {}
    counts = {}
    for table in layout.tables:
        level = nodes.get(table.rows)
        columns = _key_columns(table, level, keys)
        row_count = len(columns[0])
        columns += [cast_column(nodes.get(column.path), column, row_count) for column in table.columns]
        batches[table.name] = pa.RecordBatch.from_arrays(columns, schema=table.arrow_schema())
        counts[table.name] = row_count
    for name, count in counts.items():
        keys.rows[name] = keys.of(name) + count
    return batches


def _key_columns(table: Table, level: Node | None, keys: KeyCounter) -> list[Any]:
    row_count = 0 if level is None else level.row_count
    first = keys.of(table.name) + 1
    columns = [pa.array(np.arange(first, first + row_count, dtype=np.int64))]
    if table.parent is not None:
        parents = np.empty(0, np.int64) if level is None else level.parent_rows.astype(np.int64)
        ordinals = np.empty(0, np.int64) if level is None else level.ordinals.astype(np.int64)
        columns += [pa.array(parents + keys.of(table.parent) + 1), pa.array(ordinals)]
    return columns
