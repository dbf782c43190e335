"""Fragment and layout become tables: typed columns with dense keys."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np
import pyarrow as pa

from tessaron.core.casting import cast_column
from tessaron.core.fragment import Fragment, Node
from tessaron.core.kinds import Kind
from tessaron.core.layout import Layout, Table
from tessaron.core.paths import Origin, Path, Step, format_path

_NOT_IN_COLUMNS = (Kind.NULL, Kind.OBJECT, Kind.ARRAY)


def count_rows(fragment: Fragment, layout: Layout) -> dict[str, int]:
    """Return how many rows a conformed fragment adds to each table."""
    nodes = dict(zip(fragment.paths(), fragment.nodes, strict=True))
    return {table.name: nodes[table.rows].row_count if table.rows in nodes else 0 for table in layout.tables}


def make_tables(fragment: Fragment, layout: Layout, rows_before: Mapping[str, int]) -> dict[str, Any]:
    """Return the rows that a conformed fragment adds to each table of the layout.

    Args:
        fragment: A fragment in the form of the settled shape (see `conform`).
        layout: The tables to make.
        rows_before: The rows of each table made of the fragments before this one.

    Returns:
        A record batch for each table, in the order of the layout, with `Table.arrow_schema()`.

    Raises:
        RuntimeError: When a value of the fragment would come into no column. This is a fault of Tessaron.
    """
    nodes: dict[Path, Node] = dict(zip(fragment.paths(), fragment.nodes, strict=True))
    _check_all_goes_in(nodes, layout)
    batches = {}
    for table in layout.tables:
        level = nodes.get(table.rows)
        columns = _key_columns(table, level, nodes, rows_before)
        row_count = len(columns[0])
        columns += [cast_column(nodes.get(column.path), column, row_count) for column in table.columns]
        batches[table.name] = pa.RecordBatch.from_arrays(columns, schema=table.arrow_schema())
    return batches


def _key_columns(
    table: Table, level: Node | None, nodes: dict[Path, Node], rows_before: Mapping[str, int]
) -> list[Any]:
    row_count = 0 if level is None else level.row_count
    first = rows_before.get(table.name, 0) + 1
    columns = [pa.array(np.arange(first, first + row_count, dtype=np.int64))]
    if table.parent is not None:
        parents = np.empty(0, np.int64) if level is None else level.parent_rows.astype(np.int64)
        columns.append(pa.array(parents + rows_before.get(table.parent, 0) + 1))
    for origin, name, other in (
        (Origin.WITHIN, table.within_key, table.name),
        (Origin.THROUGH, table.through_key, table.through),
    ):
        if name is not None and other is not None:
            node = nodes.get((*table.rows, origin))
            columns.append(_reference(node, row_count, rows_before.get(other, 0) + 1))
    if table.parent is not None:
        columns.append(pa.array(np.empty(0, np.int64) if level is None else level.ordinals.astype(np.int64)))
    return columns


def _reference(node: Node | None, row_count: int, first: int) -> Any:
    keys = np.zeros(row_count, np.int64)
    unknown = np.ones(row_count, np.bool_)
    if node is not None:
        rows = node.rows_present()
        keys[rows], unknown[rows] = node.integers + first, False
    return pa.array(keys, mask=unknown)


def _check_all_goes_in(nodes: dict[Path, Node], layout: Layout) -> None:
    known: set[tuple[Step, ...]] = {column.path for table in layout.tables for column in table.columns}
    known |= {(*table.rows, origin) for table in layout.tables for origin in (Origin.WITHIN, Origin.THROUGH)}
    for path, node in nodes.items():
        if path not in known and not np.isin(node.kinds, _NOT_IN_COLUMNS).all():
            raise RuntimeError(f"values at {format_path(path)} have no column; please report this")
