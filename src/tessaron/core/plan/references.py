"""What records refer to of the documents that they stand in, by a layout: rows, by their numbers."""

from __future__ import annotations

import operator
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from itertools import accumulate

from tessaron.core.base.paths import ELEMENT, ENCLOSING, MARKUP, Origin, Path
from tessaron.core.base.visible import in_quotes
from tessaron.core.layout.layout_model import LayoutPart
from tessaron.core.layout.table_set import Column
from tessaron.core.plan.plan import LayingPlan
from tessaron.core.plan.rows_finding import RowsFinder, Say

_ENCLOSING = tuple((origin,) for origin in ENCLOSING)


@dataclass
class References:
    """Finds the tables that records refer to; mistakes are said.

    Args:
        part: The layout.
        rows: Knows where the rows of tables stand.
        say: Is told of mistakes.
    """

    part: LayoutPart
    rows: RowsFinder
    say: Say

    @cached_property
    def documents(self) -> str | None:
        """The table with a row for each document around the records."""
        return self._table_at(())

    def enclosing(self, table: str, columns: Sequence[Column]) -> tuple[str | None, str | None]:
        """Return the column that refers to the element that a record stands in, and the table of those."""
        found = next((column for column in columns if column.path[-1:] in _ENCLOSING), None)
        if found is None:
            return None, None
        steps = self._way(_ENCLOSING.index(found.path[-1:]))
        name = self._table_at(steps)
        if name is not None and self.part.tables[name].write:
            return found.name, name
        spelled = in_quotes("/".join(step.removeprefix(MARKUP) for step in steps))
        keys = ("tables", table, "columns", found.name)
        self.say(keys, f"no table with around = true and rows = {spelled} for it to refer to")
        return None, None

    def containers(self) -> frozenset[Path]:
        """Return the paths of the elements that records stand in, from the root, which is left out."""
        return frozenset(accumulate(((step,) for step in self._way(0)), operator.add))

    def check(self, records: LayingPlan, around: LayingPlan | None) -> None:
        """Check that no filter takes rows that records refer to: all behind them would have other numbers."""
        filtered = [] if around is None else [table for table in around.tables if table.keep is not None]
        ends = {
            column.source.path[-1:]: f"{table.name}.{column.name}"
            for table in records.tables
            for column in table.columns
            if column.source is not None
        }
        ways: dict[Path, Path] = {(Origin.DOCUMENT,): ()}
        ways |= {end: self._way(outwards) for outwards, end in enumerate(_ENCLOSING)}
        for table in filtered:
            level = _plain(table.level)
            for end, steps in ways.items():
                if end in ends and level == steps[: len(level)]:
                    text = f"{ends[end]} refers to rows by their number, so none may be taken away"
                    self.say(("tables", table.name, "keep"), f"{text}; take out keep, or that column")

    def _way(self, outwards: int) -> tuple[str, ...]:
        """Return the steps to the elements that records stand in, so many outwards, without the root."""
        if self.part.reading.format != "xml":
            return ()
        steps = (self.part.reading.records or "").partition("[")[0].split("/")[2:-1]
        names = tuple(MARKUP + step.strip().removeprefix("child::") for step in steps)
        return names[: max(0, len(names) - outwards)]

    def _table_at(self, steps: tuple[str, ...]) -> str | None:
        for name in self.part.tables:
            place = self.rows.place(name)
            if place.is_around and not place.is_broken and _plain(place.level) == steps:
                return name
        return None


def _plain(level: Path) -> Path:
    return tuple(step for step in level if step is not ELEMENT)
