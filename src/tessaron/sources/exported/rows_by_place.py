"""The rows of shared tables, place by place: read once, and put aside until each place is asked for."""

from __future__ import annotations

import tempfile
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import ExitStack
from typing import IO, Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from tessaron.core.base.arrays import ArrowArray, ArrowRows, array_of
from tessaron.core.base.errors import Code, DataError, Place
from tessaron.core.base.visible import in_quotes
from tessaron.core.layout.table_set import Table, written_name, written_tables
from tessaron.core.rebuild.places import TablePlaces
from tessaron.sources.exported.table_folder import TableFolder

_ROWS_AT_ONCE = 65_536


def rows_of_tables(
    files: TableFolder,
    tables: Sequence[TablePlaces],
    columns: Callable[[TablePlaces], Sequence[str]],
    batch_rows: int,
    stack: ExitStack,
) -> Mapping[str, Iterator[ArrowRows]]:
    """Return the rows of each table, by its name, in the order of its file.

    Args:
        files: The folder.
        tables: The tables; of a shared table those of each place.
        columns: Gives the columns that are wanted of one.
        batch_rows: Rows read at once.
        stack: Closes what is open meanwhile.
    """
    shared: dict[str, list[TablePlaces]] = {}
    found: dict[str, Iterator[Any]] = {}
    for each in tables:
        name = written_name(each.table.name)
        if name == each.table.name:
            found[name] = each.standing(files.batches(each.table, columns(each), batch_rows))
        else:
            shared.setdefault(name, []).append(each)
    for members in shared.values():
        wanted = list(dict.fromkeys(name for each in members for name in columns(each)))
        rows = _SplitRows(files, [each.table for each in members], wanted, stack)
        for each in members:
            found[each.table.name] = rows.at(each.table, list(columns(each)))
    return found


class _SplitRows:
    """The rows of one shared table, by place, in a temporary file."""

    def __init__(self, files: TableFolder, members: list[Table], columns: list[str], stack: ExitStack):
        (self._table,) = written_tables(members)
        self._files, self._columns, self._members = files, columns, members
        self._file: IO[bytes] = stack.enter_context(tempfile.TemporaryFile(prefix="tessaron-"))  # noqa: SIM115
        self._parts: dict[str, list[tuple[int, int]]] | None = None
        self._schema: Any = None

    def at(self, member: Table, columns: list[str]) -> Iterator[ArrowRows]:
        """Yield the rows at the place of one of the members."""
        if self._parts is None:
            self._parts = self._split()
        for start, size in self._parts[member.name]:
            self._file.seek(start)
            batch = pa.ipc.read_record_batch(pa.py_buffer(self._file.read(size)), self._schema)
            yield batch.select(columns)

    def _split(self) -> dict[str, list[tuple[int, int]]]:
        parts: dict[str, list[tuple[int, int]]] = {each.name: [] for each in self._members}
        place_key = str(self._table.place_key)
        spelled = pa.array([each.place for each in self._members], pa.large_string())
        at = row = 0
        for batch in self._files.batches(self._table, [*self._columns, place_key], _ROWS_AT_ONCE):
            numbers = self._numbers(batch.column(place_key), spelled, row)
            row += batch.num_rows
            order = np.argsort(numbers, kind="stable")
            rows = batch.select(self._columns).take(array_of(order))
            self._schema = rows.schema
            bounds = np.searchsorted(numbers[order], np.arange(len(self._members) + 1))
            for number in np.flatnonzero(np.diff(bounds)).tolist():
                part = rows.slice(bounds[number], bounds[number + 1] - bounds[number]).serialize()
                parts[self._members[number].name].append((at, part.size))
                at += self._file.write(part)
        return parts

    def _numbers(self, places: ArrowArray, spelled: ArrowArray, row: int) -> ArrowArray:
        numbers = pc.index_in(places, spelled)
        if numbers.null_count:
            bad = numbers.is_null().index(True).as_py()
            reason = f"row {row + bad + 1:,} stands at {in_quotes(places[bad].as_py())}, which the layout "
            raise DataError(reason + "does not name", Place(self._table.name), Code.PLACE)
        return numbers.to_numpy()
