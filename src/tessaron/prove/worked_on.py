"""Columns that hold something else than stood in the source: worked out again, and compared cell by cell."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import ExitStack
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from tessaron.core.base.arrays import ArrowArray, ArrowRows
from tessaron.core.base.visible import in_quotes
from tessaron.core.layout.table_set import Table
from tessaron.core.rebuild.record_contents import hashes_of_rows
from tessaron.core.tables.numbering import references
from tessaron.decide.layout_options import with_layout
from tessaron.engine.options import Options
from tessaron.engine.run_progress import NoProgress
from tessaron.prove.keyed_tables import KeyedTables
from tessaron.prove.table_checks import Check
from tessaron.sources.inputs import Input
from tessaron.write.table_run import TableRun


def compare_worked_on(
    tables: KeyedTables, inputs: list[Input], options: Options, are_ordered: bool = True
) -> list[Check]:
    """Run the layout over the sources once more, and compare all tables, cell by cell.

    Args:
        tables: The tables.
        inputs: The sources.
        options: How they are read.
        are_ordered: Whether rows stand in the order in which they came; else they are compared as a whole,
            without keys that only count.

    Returns:
        A check for each table.
    """
    layout = tables.layout
    with ExitStack() as stack:
        compiled = layout.compiled()
        read_so = with_layout(options, compiled)
        run = TableRun(inputs, read_so, NoProgress(), stack, compiled, layout.text)
        plan = run.read()
        sides: dict[str, _Stored | _InAnyOrder] = {}
        for table in plan.tables:
            stored = tables.files.batches(table, table.arrow_schema().names)
            sides[table.name] = (
                _Stored(table.name, stored, options.first is not None)
                if are_ordered
                else _InAnyOrder(table, stored)
            )
        for batches in run.rows():
            for name, batch in batches.items():
                sides[name].compare(batch)
        return [side.result() for side in sides.values()]


class _Stored:
    """The stored rows of a table, compared with those worked out again."""

    def __init__(self, name: str, batches: Iterator[ArrowRows], is_sample: bool):
        self._name, self._batches, self._is_sample = name, batches, is_sample
        self._left: Any = None
        self._rows = 0
        self._failures, self._first = 0, ""

    def compare(self, batch: ArrowRows) -> None:
        """Compare the next rows."""
        at = 0
        while at < batch.num_rows:
            stored = self._next()
            if stored is None:
                self._fail(batch.num_rows - at, f"row {self._rows + 1:,} is not in the table")
                return
            count = min(stored.num_rows, batch.num_rows - at)
            self._compare(batch.slice(at, count), stored.slice(0, count))
            self._left = stored.slice(count) if count < stored.num_rows else None
            self._rows += count
            at += count

    def _next(self) -> ArrowArray:
        if self._left is not None:
            return self._left
        return next((batch for batch in self._batches if batch.num_rows), None)

    def _compare(self, made: ArrowArray, stored: ArrowArray) -> None:
        if made.equals(stored):
            return
        for index, name in enumerate(made.schema.names):
            one, other = made.column(index), stored.column(index)
            if not one.equals(other):
                differs = _differs(one, other)
                count = pc.sum(differs).as_py() or 0
                if count:
                    row = differs.index(True).as_py()
                    made_one, kept = in_quotes(one[row].as_py()), in_quotes(other[row].as_py())
                    shown = f"{made_one} worked out, {kept} in the table"
                    self._fail(count, f"{name} in row {self._rows + row + 1:,}: {shown}")

    def _fail(self, count: int, text: str) -> None:
        self._failures += count
        self._first = self._first or text

    def result(self) -> Check:
        """Return how it came out."""
        if not self._is_sample:
            while (rest := self._next()) is not None:
                self._fail(rest.num_rows, f"row {self._rows + 1:,} does not come from the source")
                self._left = None
        return Check(self._name, "worked out again", self._failures, self._first)


class _InAnyOrder:
    """The stored rows of a table, compared with those worked out again as a heap."""

    def __init__(self, table: Table, batches: Iterator[ArrowRows]):
        self._name, self._batches = table.name, batches
        counted: set[str | None] = {table.document_key, table.enclosing_key}
        counted |= {name for name, _ in references(table)} if table.key_type == "integer" else set()
        self._names = [name for name in table.arrow_schema().names if name not in counted]
        self._rows, self._sum = 0, 0

    def compare(self, batch: ArrowRows) -> None:
        """Take in the next rows."""
        self._rows += batch.num_rows
        self._sum += int(hashes_of_rows(batch, self._names).sum(dtype=np.uint64))

    def result(self) -> Check:
        """Return how it came out."""
        made, rows = self._sum, self._rows
        self._rows, self._sum = 0, 0
        for batch in self._batches:
            self.compare(batch)
        if self._rows != rows:
            text = f"{rows:,} rows worked out, {self._rows:,} in the table"
            return Check(self._name, "worked out again", abs(self._rows - rows), text)
        is_same = (self._sum - made) % 2**64 == 0
        text = "" if is_same else f"some of the {rows:,} rows hold something else than is worked out"
        return Check(self._name, "worked out again", int(not is_same), text)


def _differs(one: ArrowArray, other: ArrowArray) -> ArrowArray:
    """Return which values are not the same; null is the same as null, and no number as no number."""
    same = pc.fill_null(pc.equal(one, other), False)
    both_null = pc.and_(pc.is_null(one), pc.is_null(other))
    same = pc.or_(same, both_null)
    if pa.types.is_floating(one.type):
        same = pc.or_(same, pc.fill_null(pc.and_(pc.is_nan(one), pc.is_nan(other)), False))
    return pc.invert(same)
