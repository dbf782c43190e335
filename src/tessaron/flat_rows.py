"""One flat table without a layout file: the drafted layout, flattened, over the fragments put aside."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from difflib import get_close_matches
from typing import Any

from tessaron.core.errors import UsageError
from tessaron.core.laying.work import LaidResult, LayWork
from tessaron.core.layouts.paths import LayoutPathError, LayoutPaths
from tessaron.core.layouts.writing import write_draft
from tessaron.core.paths import Path, format_path
from tessaron.core.tables import shift_keys
from tessaron.core.visible import in_quotes
from tessaron.draft_facts import draft_of
from tessaron.feeds import Progress
from tessaron.layouts import Layout
from tessaron.options import Options
from tessaron.pool import Pool
from tessaron.reading import Reading


class FlatRows:
    """The rows of one array with all that is above them repeated.

    Attributes:
        tables: The one table.
        left_out: Values that it has no column for, by path.
        layout_text: The layout, as a layout file.
    """

    def __init__(self, reading: Reading, options: Options, pool: Pool, progress: Progress):
        self._reading, self._options, self._pool, self._progress = reading, options, pool, progress
        draft = draft_of(reading, options)
        levels = {table.rows: table.name for table in draft.tables.tables}
        layout = Layout(write_draft(draft), "draft")
        spelling = layout.compiled().spelling
        layout = layout.flatten(
            _table_at(str(options.flat), levels, spelling),
            [_table_at(text, levels, spelling) for text in options.times],
            options.with_empty,
        )
        self.layout_text = layout.text
        self._plan = layout.compiled().records
        self._work = LayWork(self._plan, options.kernel)
        self.tables = self._plan.written()
        self.left_out: Counter[str] = Counter()

    def rows(self) -> Iterator[dict[str, Any]]:
        """Yield the rows, fragment by fragment; how many come out of arrays multiplied is said first."""
        if self._options.times:
            count = sum(batch.num_rows for each in self._results() for batch in self._batches(each).values())
            pairs = " × ".join((str(self._options.flat), *self._options.times))
            self._progress.say(f"{count:,} rows come out of {pairs}")
        self.left_out.clear()
        rows_before: dict[str, int] = {}
        steps = len(self._reading.records.spill)
        for step, result in enumerate(self._results(), 1):
            batches = shift_keys(self._batches(result), self.tables, rows_before)
            for name, batch in batches.items():
                rows_before[name] = rows_before.get(name, 0) + batch.num_rows
            yield batches
            self._progress.write(step, steps)

    def _results(self) -> Iterator[LaidResult]:
        yield from self._pool.map(self._work, self._reading.records.spill.read())

    def _batches(self, result: LaidResult) -> dict[str, Any]:
        self.left_out.update(result.laid.left_out)
        return result.laid.batches


def _table_at(text: str, levels: dict[Path, str], spelling: LayoutPaths) -> str:
    """Return the table whose rows stand at a path."""
    try:
        path = spelling.rows(text, levels[()])
    except LayoutPathError as error:
        raise UsageError(str(error)) from error
    if path.steps in levels:
        return levels[path.steps]
    known = [format_path(level) for level in levels]
    near = get_close_matches(text, known, 3, 0.5) or known
    raise UsageError(f"no rows stand at {in_quotes(text)}; there are rows at {', '.join(near)}")
