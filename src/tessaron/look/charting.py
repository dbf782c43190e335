"""A source looked at once: its structure, the tables that would be drafted for it, and their first rows."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from contextlib import ExitStack
from dataclasses import dataclass, field
from itertools import islice
from typing import TYPE_CHECKING, Unpack

from tessaron.core.base.arrays import ArrowRows
from tessaron.core.layout.layout_writing import write_draft
from tessaron.core.layout.table_reasons import TableReason
from tessaron.core.survey.survey_entries import SurveyFacts
from tessaron.core.tables.lay_work import LayWork
from tessaron.core.tables.numbering import RowNumbers
from tessaron.decide.draft_facts import draft_of
from tessaron.decide.layout_file import Layout
from tessaron.engine.feeds import Feed
from tessaron.engine.options import Options
from tessaron.engine.pool import Pool
from tessaron.engine.reading import SourceReading
from tessaron.engine.run_options import RunOptions
from tessaron.engine.run_progress import NoProgress, Progress
from tessaron.engine.spill import Spill
from tessaron.look.layout_view import LayoutView
from tessaron.look.surveying import facts_of
from tessaron.sources.resolving import Source, resolve_inputs

if TYPE_CHECKING:
    from tessaron.core.plan.plan import LayingPlan

FIRST_ROWS = 8
"""So many rows of each table are kept."""
_CHUNKS_TRIED = 8
"""What has no rows in so many chunks shows none."""


@dataclass(frozen=True, slots=True)
class Chart:
    """What was seen of a source.

    Attributes:
        facts: What a survey finds.
        layout: The layout that is drafted; None where there are no records.
        reasons: Why each table is one, by its name.
        rows: The first rows of each table.
        taken: For each path the columns that take its values, as `table.column`.
    """

    facts: SurveyFacts
    layout: Layout | None = None
    reasons: Mapping[str, TableReason] = field(default_factory=dict)
    rows: Mapping[str, ArrowRows] = field(default_factory=dict)
    taken: Mapping[str, tuple[str, ...]] = field(default_factory=dict)


def chart_source(source: Source, progress: Progress | None = None, **options: Unpack[RunOptions]) -> Chart:
    """Return what is seen of the records of `source`: what `survey` and `draft` find, read only once.

    Args:
        source: As in `shred`.
        progress: Is told how far reading is.
        **options: As in `draft`.

    Raises:
        SourceError: When a source cannot be read.
        DataError: When it is not JSON.
        UsageError: When an option cannot be right.
    """
    settled = Options.of(options)
    inputs = resolve_inputs(source)
    with ExitStack() as stack:
        pool = stack.enter_context(Pool(settled.worker_count(), [entry.size for entry in inputs]))
        feeds = [Feed(stack.enter_context(Spill())) for _ in range(2)]
        reading = SourceReading(
            inputs, settled, feeds[0], feeds[1], progress or NoProgress(), pool, is_survey=True
        )
        reading.selection = settled.selection()
        reading.read_all()
        reading.settle()
        facts = facts_of(reading, pool)
        if not facts.records:
            return Chart(facts)
        drafted = draft_of(reading, settled)
        layout = Layout(write_draft(drafted), "draft")
        return Chart(facts, layout, drafted.reasons, _first_rows(reading, layout), LayoutView(layout).taken())


def _first_rows(reading: SourceReading, layout: Layout) -> dict[str, ArrowRows]:
    """Return the first rows of each table, of the first of what was put aside."""
    plans = layout.compiled(secret=b"any")
    found: dict[str, ArrowRows] = {}
    for plan, feed in ((plans.around, reading.documents), (plans.records, reading.records)):
        if plan is not None:
            feed.close()
            for rows in _rows_of(plan, feed):
                for name, batch in rows.items():
                    if name not in found or not found[name].num_rows:
                        found[name] = batch.slice(0, FIRST_ROWS)
                if all(batch.num_rows for batch in found.values()):
                    break
    return found


def _rows_of(plan: LayingPlan, feed: Feed) -> Iterator[dict[str, ArrowRows]]:
    work, numbers, tables = LayWork(plan), RowNumbers(), plan.written()
    for packed in islice(feed.spill.read(), _CHUNKS_TRIED):
        yield numbers.number(work(packed).laid.batches, tables)
