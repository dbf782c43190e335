"""Tables in the order of the rows they belong to, whatever order their files have."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator, Mapping, Sequence
from contextlib import ExitStack
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from tessaron.core.base.arrays import ArrowArray, ArrowRows
from tessaron.core.base.errors import Code, DataError, Place
from tessaron.core.base.visible import in_quotes
from tessaron.core.layout.table_set import written_name
from tessaron.core.rebuild.places import TablePlaces
from tessaron.core.rebuild.row_groups import GroupReader, OutOfOrderError
from tessaron.sources.exported.rows_by_place import rows_of_tables
from tessaron.sources.exported.table_folder import BATCH_ROWS, TableFolder


def in_key_order(
    files: TableFolder, tables: Sequence[TablePlaces], stack: ExitStack
) -> Mapping[str, Iterator[ArrowRows]]:
    """Return the rows of each table, in the order of the rows they belong to.

    Tables of an export stand in that order; others are looked through first, keys only, and brought into it
    if they do not: keys are in memory then, all else in a temporary file.

    Args:
        files: The folder.
        tables: The tables, parents before children.
        stack: Closes what is open meanwhile.

    Raises:
        DataError: When a row belongs to none.
    """
    if len(tables) == 1 or _stand_in_order(files, tables):
        return rows_of_tables(files, tables, TablePlaces.columns, BATCH_ROWS, stack)
    found: dict[str, Iterator[Any]] = {}
    keys: dict[str, Any] = {}
    rows = rows_of_tables(files, tables, TablePlaces.columns, BATCH_ROWS, stack)
    for each in tables:
        table = each.table
        whole = _put_aside(rows[table.name], each, stack)
        order = None
        if table.parent is not None:
            order = _order(whole, each, keys[table.parent])
        own = whole.column(table.row_key).combine_chunks()
        keys[table.name] = own if order is None else own.take(pa.array(order))
        found[table.name] = _taken(whole, order)
    return found


def _stand_in_order(files: TableFolder, tables: Sequence[TablePlaces]) -> bool:
    """Say whether every table stands in the order of the rows it belongs to; only keys are read."""
    with ExitStack() as stack:
        batches = rows_of_tables(files, tables, _keys_of, BATCH_ROWS, stack)
        try:
            for _ in GroupReader(tables[0], batches):
                pass
        except OutOfOrderError:
            return False
    return True


def _keys_of(places: TablePlaces) -> list[str]:
    return places.table.key_columns()


def _put_aside(batches: Iterator[ArrowRows], places: TablePlaces, stack: ExitStack) -> ArrowRows:
    """Return all rows as a table whose memory is a temporary file."""
    folder = stack.enter_context(tempfile.TemporaryDirectory(prefix="tessaron-"))
    path = Path(folder, "rows.arrow")
    whole = places.table.arrow_schema()
    schema = pa.schema([pa.field(name, whole.field(name).type) for name in places.columns()])
    with pa.OSFile(str(path), "wb") as file, pa.ipc.new_file(file, schema) as writer:
        for batch in batches:
            writer.write_batch(batch)
    source = stack.enter_context(pa.memory_map(str(path)))
    return pa.ipc.open_file(source).read_all()


def _order(rows: ArrowRows, places: TablePlaces, parents: ArrowArray) -> ArrowArray:
    """Return the rows in the order of their parents, and there by their ordinal."""
    table = places.table
    owners = rows.column(str(table.parent_key)).combine_chunks()
    index = pc.index_in(owners, parents)
    if index.null_count:
        row = index.is_null().index(True).as_py()
        reason = (
            f"row {row + 1:,} belongs to {written_name(str(table.parent))} "
            f"{in_quotes(owners[row].as_py())}, which is not there"
        )
        raise DataError(reason, Place(written_name(table.name)), Code.FOREIGN_KEY)
    ordinals = np.zeros(rows.num_rows, np.int64)
    if table.ordinal is not None and table.within_key is None:
        ordinals = rows.column(table.ordinal).combine_chunks().fill_null(0).to_numpy()
    return np.lexsort((ordinals, index.to_numpy()))


def _taken(rows: ArrowRows, order: ArrowArray) -> Iterator[ArrowRows]:
    for start in range(0, rows.num_rows, BATCH_ROWS):
        part = (
            rows.slice(start, BATCH_ROWS)
            if order is None
            else rows.take(pa.array(order[start : start + BATCH_ROWS]))
        )
        yield from part.combine_chunks().to_batches()
