"""A source looked at once: its structure, the tables that would be drafted for it, and their first rows."""

from __future__ import annotations

from collections.abc import Mapping
from contextlib import ExitStack
from dataclasses import dataclass, field
from typing import Unpack

from tessaron.core.base.arrays import ArrowRows
from tessaron.core.layout.table_reasons import TableReason
from tessaron.core.layout.texts.layout_writing import write_draft
from tessaron.core.survey.survey_entries import SurveyFacts
from tessaron.decide.draft_facts import draft_of
from tessaron.decide.layout_file import Layout
from tessaron.engine.aside.spill import Spill
from tessaron.engine.feeds import Feed
from tessaron.engine.options import Options
from tessaron.engine.pool import Pool
from tessaron.engine.reading import SourceReading
from tessaron.engine.run_options import RunOptions
from tessaron.engine.run_progress import NoProgress, Progress
from tessaron.look.layout_view import LayoutView
from tessaron.look.row_sample import RowSample
from tessaron.look.surveying import facts_of
from tessaron.sources.resolving import Source, resolve_inputs


@dataclass(frozen=True, slots=True)
class Chart:
    """What was seen of a source.

    Attributes:
        facts: What a survey finds.
        layout: The layout that is drafted; None where there are no records.
        reasons: Why each table is one, by its name.
        rows: The first rows of each table.
        taken: For each path the columns that take its values, as `table.column`.
        sample: The first of what was read, to be seen by other layouts.
    """

    facts: SurveyFacts
    layout: Layout | None = None
    reasons: Mapping[str, TableReason] = field(default_factory=dict)
    rows: Mapping[str, ArrowRows] = field(default_factory=dict)
    taken: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    sample: RowSample | None = None


def chart_source(
    source: Source,
    progress: Progress | None = None,
    *,
    seen_by: Layout | None = None,
    **options: Unpack[RunOptions],
) -> Chart:
    """Return what is seen of the records of `source`: what `survey` and `draft` find, read only once.

    Args:
        source: As in `shred`.
        progress: Is told how far reading is.
        seen_by: A layout that says where records stand, what is a dictionary, and so on.
        **options: As in `draft`.

    Raises:
        SourceError: When a source cannot be read.
        DataError: When it is not JSON.
        UsageError: When an option cannot be right.
    """
    settled = Options.of(options)
    if seen_by is not None:
        settled.check_with_layout()
        settled = LayoutView(seen_by).options(settled)
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
        sample = RowSample.of(reading.records, reading.documents)
        rows = sample.seen_by(layout).rows
        return Chart(facts, layout, drafted.reasons, rows, LayoutView(layout).taken(), sample)
