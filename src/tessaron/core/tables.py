"""Fragment and layout become tables: typed columns with dense keys."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from tessaron.core.arrays import array_of
from tessaron.core.casting import cast_column
from tessaron.core.digest_keys import digest_keys
from tessaron.core.fragment import Fragment, Node
from tessaron.core.layout import Table, TableSet
from tessaron.core.paths import Origin, Path, format_path


def make_tables(fragment: Fragment, layout: TableSet) -> dict[str, Any]:
    """Return the rows that a conformed fragment adds to each table of the layout.

    Args:
        fragment: A fragment in the form of the settled shape (see `conform`).
        layout: The tables to make.

    Returns:
        A record batch for each table, in the order of the layout, with `Table.arrow_schema()`. Keys count
        from 1 in the fragment; see `shift_keys`.

    Raises:
        RuntimeError: When a value of the fragment would come into no column. This is a fault of Tessaron.
    """
    nodes: dict[Path, Node] = dict(zip(fragment.paths(), fragment.nodes, strict=True))
    _check_all_goes_in(nodes, layout)
    keys = {table.name: _key_columns(table, nodes.get(table.rows), nodes) for table in layout.tables}
    data = {table.name: _data_columns(table, nodes, len(keys[table.name][0])) for table in layout.tables}
    if layout.has_digest_keys:
        digest_keys(keys, data, layout, fragment)
    return {
        table.name: pa.RecordBatch.from_arrays(
            [*keys[table.name], *data[table.name].columns], schema=table.arrow_schema()
        )
        for table in layout.tables
    }


def _data_columns(table: Table, nodes: dict[Path, Node], row_count: int) -> Any:
    arrays = [cast_column(nodes.get(column.path), column, row_count) for column in table.columns]
    return pa.RecordBatch.from_arrays(arrays, names=[column.name for column in table.columns])


def shift_keys(
    batches: Mapping[str, Any], layout: TableSet, rows_before: Mapping[str, int]
) -> dict[str, Any]:
    """Return the batches with keys that go on after the rows that each table already has."""
    shifted = {}
    for table in layout.tables:
        batch = shifted[table.name] = batches[table.name]
        if table.key_type == "text":
            continue
        references = [(table.row_key, table.name), (table.parent_key, table.parent)]
        references += [(table.within_key, table.name), (table.through_key, table.through)]
        for column, other in references:
            before = rows_before.get(other, 0) if other is not None else 0
            if column is not None and before:
                index = batch.schema.get_field_index(column)
                keys = _plus(batch.column(index), before)
                batch = batch.set_column(index, batch.schema.field(index), keys)
        shifted[table.name] = batch
    return shifted


def _plus(keys: Any, before: int) -> Any:
    if keys.null_count:
        return pc.add(keys, before)
    return array_of(keys.to_numpy() + before)


def _key_columns(table: Table, level: Node | None, nodes: dict[Path, Node]) -> list[Any]:
    row_count = 0 if level is None else level.row_count
    columns = [array_of(np.arange(1, row_count + 1, dtype=np.int64))]
    if table.parent is not None:
        parents = np.empty(0, np.int64) if level is None else level.parent_rows.astype(np.int64) + 1
        columns.append(array_of(parents))
    for origin, name in ((Origin.WITHIN, table.within_key), (Origin.THROUGH, table.through_key)):
        if name is not None:
            columns.append(_reference(nodes.get((*table.rows, origin)), row_count))
    if table.parent is not None:
        columns.append(array_of(np.empty(0, np.int64) if level is None else level.ordinals.astype(np.int64)))
    return columns


def _reference(node: Node | None, row_count: int) -> Any:
    keys = np.zeros(row_count, np.int64)
    unknown = np.ones(row_count, np.bool_)
    if node is not None:
        rows = node.rows_present()
        keys[rows], unknown[rows] = node.integers + 1, False
    return array_of(keys, unknown)


def _check_all_goes_in(nodes: dict[Path, Node], layout: TableSet) -> None:
    known = {column.path for table in layout.tables for column in table.columns}
    for path, node in nodes.items():
        if path in known or (path[-1:] and isinstance(path[-1], Origin)):
            continue
        if any(len(lane) for lane in (node.booleans, node.integers, node.numbers, node.texts.filled())):
            raise RuntimeError(f"values at {format_path(path)} have no column; please report this")
