"""A survey: source, kernel and shape joined; no tables are made."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator, Mapping
from contextlib import ExitStack
from itertools import islice
from typing import TYPE_CHECKING, Any, Unpack

import numpy as np

from tessaron.core.base.kinds import Kind
from tessaron.core.base.paths import Path, format_path, show_path
from tessaron.core.model.dependencies import DependencyCounts, DependencyWork, Following, watched_fields
from tessaron.core.model.likenesses import like_places
from tessaron.core.shape.inference import infer_type
from tessaron.core.shape.profile import Example
from tessaron.core.shape.shape_node import ShapeNode
from tessaron.core.shape.uniques import ALMOST, SHOWN_VALUES, HashTask, HashWork, Repeats
from tessaron.core.survey.noticing import ADVICE, SurveyNote
from tessaron.core.survey.survey_entries import SurveyFacts, SurveyMaker, survey_entries
from tessaron.core.tape.distinct import STANDARD_ERROR, TELLING_FROM, Hashes
from tessaron.engine.aside.spill import Spill
from tessaron.engine.feeds import Feed
from tessaron.engine.options import Options
from tessaron.engine.pool import Pool
from tessaron.engine.reading import NO_OBJECT, SourceReading
from tessaron.engine.run_options import RunOptions
from tessaron.engine.run_progress import NoProgress, Progress
from tessaron.sources.inputs import ByteInput
from tessaron.sources.resolving import Source, resolve_inputs

if TYPE_CHECKING:
    from tessaron.decide.layout_file import Layout
    from tessaron.look.layout_view import LayoutView

_MOST_SHOWN = 6
_ENOUGH_RECORDS = 20_000
"""What determines what is looked for in the chunks of so many records, from the first."""
_MOST_WATCHED = 24
"""So many paths, from the first, are looked at for values that repeat."""
_KEY_TYPES = frozenset(("text", "integer", "uuid"))
_HASHES_AT_ONCE, _BLOCK_BYTES = 1_000_000, 4 * 1024 * 1024


def survey_source(
    source: Source,
    progress: Progress | None = None,
    *,
    layout: Layout | None = None,
    **options: Unpack[RunOptions],
) -> SurveyFacts:
    """Return what a survey of the records of `source` finds.

    Args:
        source: As in `shred`.
        progress: Is told how far the survey is.
        layout: A layout, through which the source is seen: where its records stand, its changes of structure,
            and which columns take which paths.
        **options: Of `Options`: name, records, dictionaries, not_dictionaries, first, workers, memory,
            depth_limit, chunk_bytes, kernel.

    Raises:
        SourceError: When a source cannot be read.
        DataError: When it is not JSON.
        UsageError: When an option cannot be right.
    """
    settled = Options.of(options)
    seen = None if layout is None else _view_of(layout)
    if seen is not None:
        settled.check_with_layout()
        settled = seen.options(settled)
    inputs = resolve_inputs(source)
    with ExitStack() as stack:
        pool = stack.enter_context(Pool(settled.worker_count(), [entry.size for entry in inputs]))
        feeds = [Feed(stack.enter_context(Spill())) for _ in range(2)]
        told = progress or NoProgress()
        reading = SourceReading(inputs, settled, feeds[0], feeds[1], told, pool, is_survey=True)
        if seen is not None and (work := seen.work()) is not None:
            reading.work = work
        reading.read_all()
        reading.settle()
        return facts_of(reading, pool, None if seen is None else seen.taken())


def facts_of(
    reading: SourceReading, pool: Pool, taken: Mapping[str, tuple[str, ...]] | None = None
) -> SurveyFacts:
    """Return what a survey finds in what was read and settled; `taken` is as in `SurveyFacts`."""
    record = reading.records.shape.record
    repeats = _find_repeats(reading, record, pool)
    entries, notes = SurveyMaker(record, reading.structure, repeats).make()
    return SurveyFacts(
        entries,
        (*_notes_of_reading(reading), *notes, *_dependencies(reading, record, pool)),
        record.row_count,
        reading.intake.is_partial,
        record,
        tuple(entry.name for entry in reading.inputs),
        reading.records_path(),
        taken,
        like_places(record),
    )


def _dependencies(reading: SourceReading, record: ShapeNode, pool: Pool) -> Iterator[SurveyNote]:
    """Yield which fields follow from another: one more pass, where any may."""
    levels = watched_fields(record)
    if not levels:
        return
    counts = DependencyCounts()
    chunks = reading.records.spill
    enough = -(-_ENOUGH_RECORDS * len(chunks) // record.row_count)
    for found in pool.map(DependencyWork(record, levels), islice(chunks.read(), enough)):
        if found is None:
            return
        counts.add(found)
    for each in counts.dependencies():
        names = ", ".join(map(_shown_following, each.following[:_MOST_SHOWN]))
        more = len(each.following) - _MOST_SHOWN
        names += f" and {more:,} more" if more > 0 else ""
        text = f"its {each.values:,} values decide {names}, in {each.rows:,} rows"
        yield SurveyNote(format_path(each.path), "follows", text, each.rows, None, ADVICE["follows"])


def _shown_following(following: Following) -> str:
    count = following.exceptions
    exceptions = f" (but for {count:,} row{'s' * (count != 1)})" if count else ""
    return f"{show_path(following.path)}{exceptions}"


def _view_of(layout: Layout) -> LayoutView:
    """Return the view through a layout; only then its model, which takes time to load, is needed."""
    from tessaron.look.layout_view import LayoutView

    return LayoutView(layout)


def _notes_of_reading(reading: SourceReading) -> Iterator[SurveyNote]:
    """Yield what was noticed before there was a shape."""
    for entry in reading.inputs:
        if isinstance(entry, ByteInput) and entry.said:
            advice = "see that this is all of it, taken for what it is"
            yield SurveyNote(entry.name, "source", entry.said, 1, None, advice)
    for path, (count, text) in reading.intake.repeated_names.items():
        what = f"name twice in one object: {count:,}; the first {text}"
        advice = "the last value wins; --duplicate-keys reject leaves such records out"
        yield SurveyNote(path, "duplicate names", what, count, None, advice)
    for path in reading.without_object:
        yield SurveyNote(
            path, "nothing there", NO_OBJECT, 0, None, "look for its right spelling in the outline"
        )
    for reject in reading.intake.log.first[:1]:
        what = f"{reading.intake.rejected:,} records cannot be read; the first: {reject.message}"
        yield SurveyNote(
            "$", "rejected", what, reading.intake.rejected, None, "an export leaves them out and lists them"
        )


def _find_repeats(reading: SourceReading, record: ShapeNode, pool: Pool) -> Mapping[Path, Repeats]:
    """Return for the paths that may be keys how often values repeat; others are not in the mapping."""
    found: dict[Path, Repeats] = {}
    watched: dict[Path, int] = {}
    for _, node, path in survey_entries(record):
        scalars = sum(node.counts[kind] for kind in node.scalar_kinds())
        if node.profile is None or scalars < TELLING_FROM or not _may_be_key(node):
            continue
        distinct = node.profile.distinct
        if distinct.counts is not None:
            if distinct.estimate() >= ALMOST * scalars:
                found[path] = _repeats_of([(text, n) for text, n in distinct.counts.values() if n > 1])
        elif distinct.estimate() >= (ALMOST - 4 * STANDARD_ERROR) * scalars and len(watched) < _MOST_WATCHED:
            watched[path] = scalars
    if watched:
        found |= _count_repeats(reading, record, pool, watched)
    return found


def _may_be_key(node: ShapeNode) -> bool:
    """Say whether there are only texts or only integers, and no times: these repeat or not by chance."""
    return node.scalar_kinds() in ([Kind.TEXT], [Kind.INTEGER]) and infer_type(node).type.name in _KEY_TYPES


def _repeats_of(values: list[tuple[str, int]]) -> Repeats:
    values.sort(key=lambda pair: (-pair[1], pair[0]))
    return Repeats(len(values), sum(count for _, count in values), tuple(values[:SHOWN_VALUES]))


def _count_repeats(
    reading: SourceReading, record: ShapeNode, pool: Pool, watched: Mapping[Path, int]
) -> dict[Path, Repeats]:
    """Count exactly, but for 64-bit hashes, in further passes over what was put aside."""
    work, paths = HashWork(record), list(watched)
    with ExitStack() as stack:
        files = {path: stack.enter_context(_HashFile()) for path in paths}
        tasks = (HashTask(packed, paths) for packed in reading.records.spill.read())
        for hashes in pool.map(work, tasks):
            for path, values in hashes.items():
                files[path].add(values)
        counted = {path: files[path].repeated() for path in paths}
    almost = {
        path: (hashes, counts)
        for path, (hashes, counts) in counted.items()
        if counts.sum() - len(counts) <= (1 - ALMOST) * watched[path]
    }
    wanted = {path: hashes[:SHOWN_VALUES] for path, (hashes, _) in almost.items() if len(hashes)}
    examples: dict[Path, dict[int, Example]] = {path: {} for path in almost}
    if wanted:
        again = (HashTask(packed, list(wanted), wanted) for packed in reading.records.spill.read())
        for values in pool.map(work, again):
            for path, known in values.items():
                examples[path] = known | examples[path]
    return {
        path: _repeats_with_places(hashes, counts, examples[path])
        for path, (hashes, counts) in almost.items()
    }


def _repeats_with_places(hashes: Hashes, counts: Any, examples: Mapping[int, Example]) -> Repeats:
    shown = [
        (examples[key], count)
        for key, count in zip(hashes.tolist(), counts.tolist(), strict=True)
        if key in examples
    ]
    values = tuple((example.value, count) for example, count in shown)
    return Repeats(len(hashes), int(counts.sum()), values, shown[0][0] if shown else None)


class _HashFile:
    """Hashes put aside, to be counted in parts."""

    def __init__(self) -> None:
        self._file = tempfile.SpooledTemporaryFile(max_size=_BLOCK_BYTES)  # noqa: SIM115
        self._count = 0

    def __enter__(self) -> _HashFile:
        return self

    def __exit__(self, *_: object) -> None:
        self._file.close()

    def add(self, hashes: Hashes) -> None:
        """Put some aside."""
        self._count += len(hashes)
        self._file.write(np.ascontiguousarray(hashes).tobytes())

    def repeated(self) -> tuple[Hashes, Any]:
        """Return the hashes that occur more than once and their counts, the most frequent first."""
        parts = 1 + self._count // _HASHES_AT_ONCE
        found: list[tuple[Hashes, Any]] = []
        for part in range(parts):
            blocks = [block[block % np.uint64(parts) == part] for block in self._blocks()]
            values, counts = np.unique(np.concatenate(blocks or [np.empty(0, np.uint64)]), return_counts=True)
            found.append((values[counts > 1], counts[counts > 1]))
        hashes, totals = (np.concatenate(columns) for columns in zip(*found, strict=True))
        order = np.lexsort((hashes, -totals))
        return hashes[order], totals[order]

    def _blocks(self) -> Iterator[Hashes]:
        self._file.seek(0)
        while data := self._file.read(_BLOCK_BYTES):
            yield np.frombuffer(data, np.uint64)
