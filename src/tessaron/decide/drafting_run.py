"""Drafting a layout from a source, and bringing one that people have edited up to date with it."""

from __future__ import annotations

from collections.abc import Mapping
from contextlib import ExitStack
from typing import Unpack

from tessaron.core.layout.table_reasons import TableReason
from tessaron.core.layout.texts.layout_writing import Draft, write_draft
from tessaron.core.plan.layout_updating import Update, update_text
from tessaron.core.plan.plan import LayingPlan
from tessaron.decide.draft_facts import draft_of
from tessaron.decide.layout_file import Layout
from tessaron.decide.layout_growth import levels_and_fields, seen_as
from tessaron.engine.aside.spill import Spill
from tessaron.engine.feeds import Feed
from tessaron.engine.options import Options
from tessaron.engine.pool import Pool
from tessaron.engine.reading import SourceReading
from tessaron.engine.run_options import RunOptions
from tessaron.engine.run_progress import NoProgress, Progress
from tessaron.sources.inputs import Input
from tessaron.sources.resolving import Source, resolve_inputs


def draft(source: Source, *, progress: Progress | None = None, **options: Unpack[RunOptions]) -> Layout:
    """Return the layout that Tessaron proposes for the records of `source`.

    Args:
        source: As in `shred`.
        progress: Is told how far reading is.
        **options: As in `shred`; `names` is `path` or `leaf`.

    Raises:
        SourceError: When a source cannot be read.
        DataError: When it is not JSON.
        UsageError: When an option cannot be right.
    """
    return draft_inputs(resolve_inputs(source), Options.of(options), progress)


def draft_inputs(inputs: list[Input], options: Options, progress: Progress | None = None) -> Layout:
    """Return the layout that Tessaron proposes for the records of inputs; see `draft`."""
    return Layout(write_draft(_drafted(inputs, options, progress)), "draft")


def explained_draft(
    source: Source, *, progress: Progress | None = None, **options: Unpack[RunOptions]
) -> tuple[Layout, Mapping[str, TableReason]]:
    """Return what `draft` does, and for each table by its name why it is one."""
    made = _drafted(resolve_inputs(source), Options.of(options), progress)
    return Layout(write_draft(made), "draft"), made.reasons


def update(
    layout: Layout,
    source: Source,
    *,
    progress: Progress | None = None,
    **options: Unpack[RunOptions],
) -> tuple[Layout, Update]:
    """Return a layout brought up to date with a source, and what has changed.

    Every edit and comment is kept. Paths that the layout does not know are added, marked as new; tables and
    columns whose path the source has not are marked as not met.

    Args:
        layout: The layout.
        source: As in `shred`.
        progress: Is told how far reading is.
        **options: As in `shred`, but for those that a layout speaks of itself.

    Raises:
        SourceError: When the source cannot be read.
        DataError: When it is not JSON.
        UsageError: When an option cannot be right.
    """
    settled = Options.of(options)
    settled.check_with_layout()
    settled = seen_as(layout, settled)
    compiled = layout.compiled(secret=b"any")
    drafted = _drafted(resolve_inputs(source), settled, progress, compiled.records)
    text, changes = update_text(layout.text, compiled, drafted)
    return Layout(text, layout.source), changes


def _drafted(
    inputs: list[Input],
    options: Options,
    progress: Progress | None,
    known: LayingPlan | None = None,
) -> Draft:
    """Return what a source suggests; where a plan is known, seen as that has it: its rows, its trees."""
    with ExitStack() as stack:
        pool = stack.enter_context(Pool(options.worker_count(), [entry.size for entry in inputs]))
        feeds = [Feed(stack.enter_context(Spill())) for _ in range(2)]
        told = progress or NoProgress()
        reading = SourceReading(inputs, options, feeds[0], feeds[1], told, pool, is_survey=True)
        reading.selection = options.selection()
        if known is not None:
            reading.finds_trees, reading.gathered = False, known.gathered
        reading.read_all()
        reading.settle(*levels_and_fields(known))
        for first in reading.intake.log.first[:1]:
            count = f"{reading.intake.rejected:,} records cannot be read"
            told.say(f"{count}; the first: {first.place()}: {first.message}")
        return draft_of(reading, options)
