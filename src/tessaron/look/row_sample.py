"""The first of what was read, kept so that its rows can be seen by one layout after another."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass, field
from itertools import islice

import numpy as np
import pyarrow as pa

from tessaron.core.base.arrays import ArrowRows, array_of
from tessaron.core.layout.table_set import Table
from tessaron.core.tables.laid import Laid
from tessaron.core.tables.lay_work import LayWork
from tessaron.core.tables.numbering import RowNumbers
from tessaron.core.tape.put_aside import Packed
from tessaron.decide.layout_file import Layout
from tessaron.engine.feeds import Feed

_KEPT_ROWS = 8
"""So many rows of each table are shown."""
_CHUNKS = 4
"""So many chunks are kept; what has no rows in them shows none."""


@dataclass(slots=True)
class SampleRows:
    """What a layout makes of a sample.

    Attributes:
        rows: The first rows of each table.
        counts: How many rows each has.
        problems: What does not fit, and what becomes of it: each in words, with how often.
        left_out: Values that no column takes, by path.
    """

    rows: dict[str, ArrowRows] = field(default_factory=dict)
    counts: Counter[str] = field(default_factory=Counter)
    problems: Counter[str] = field(default_factory=Counter)
    left_out: Counter[str] = field(default_factory=Counter)

    def add(self, laid: Laid, batches: Mapping[str, ArrowRows]) -> None:
        """Take in what became of a tape, and its rows with their keys."""
        for name, batch in batches.items():
            self.counts[name] += batch.num_rows
            if name not in self.rows or not self.rows[name].num_rows:
                self.rows[name] = batch.slice(0, _KEPT_ROWS)
        self.left_out.update(laid.left_out)
        for each in laid.problems:
            self.problems[f"{each.name}: {each.cases[0].reason}; {_OUTCOMES[each.outcome]}"] += each.count


_OUTCOMES = {
    "record": "the record would be rejected",
    "value": "the value would be rejected",
    "note": "noted",
    "stop": "the run would stop",
}


@dataclass(frozen=True, slots=True)
class RowSample:
    """Tapes put aside: the first of the records, and of what stands around them."""

    records: tuple[Packed, ...]
    documents: tuple[Packed, ...] = ()

    @classmethod
    def of(cls, records: Feed, documents: Feed) -> RowSample:
        """Return the first of what two feeds have put aside."""
        return cls(_first_of(records), _first_of(documents))

    def seen_by(self, layout: Layout) -> SampleRows:
        """Return the first rows that a layout makes."""
        plans = layout.compiled(secret=b"any")
        made = SampleRows()
        for plan, packed in ((plans.around, self.documents), (plans.records, self.records)):
            if plan is not None:
                work, numbers, tables = LayWork(plan), RowNumbers(), plan.written()
                once = [table for table in tables.tables if table.once]
                seen: dict[str, ArrowRows] = {}
                for each in packed:
                    laid = work(each).laid
                    for table in once:
                        laid.batches[table.name] = _new_rows(laid.batches[table.name], table, seen)
                    made.add(laid, numbers.number(laid.batches, tables))
        return made


def _new_rows(batch: ArrowRows, table: Table, seen: dict[str, ArrowRows]) -> ArrowRows:
    """Return the rows of a table to look up in whose value has none yet, numbered on."""
    known = seen.get(table.name)
    whole = (
        pa.Table.from_batches([batch])
        if known is None
        else pa.concat_tables([known, pa.Table.from_batches([batch])])
    )
    places = whole.select(list(table.once)).append_column("place", array_of(np.arange(whole.num_rows)))
    first = places.group_by(list(table.once)).aggregate([("place", "min")]).column("place_min")
    before = 0 if known is None else known.num_rows
    index = np.sort(first.to_numpy())
    seen[table.name] = whole.take(array_of(index))
    new = batch.take(array_of(index[index >= before] - before))
    if table.key_type == "text":
        return new
    own = array_of(np.arange(1, new.num_rows + 1, dtype=np.int64))
    return new.set_column(0, new.schema.field(0), own)


def _first_of(feed: Feed) -> tuple[Packed, ...]:
    feed.close()
    return tuple([bytes(part) for part in packed] for packed in islice(feed.spill.read(), _CHUNKS))
