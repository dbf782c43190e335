"""The parts of rows that a draft makes tables of: one more pass over what was put aside, where it is due."""

from __future__ import annotations

from collections.abc import Sequence

from tessaron.core.base.paths import Path, level_of
from tessaron.core.model.dependencies import Dependency, DependencyCounts, DependencyWork, watched_fields
from tessaron.core.model.filled_by_kind import FilledCounts, FilledWork, Kinds, kinds_of, watched_levels
from tessaron.core.model.parting import RowPart, part, part_alternatives
from tessaron.engine.options import Options
from tessaron.engine.reading import SourceReading


def parts_of_draft(reading: SourceReading, options: Options) -> list[RowPart]:
    """Take the parts off the records' shape that shall be tables of their own, and return them.

    Args:
        reading: What was read and settled; its shape is changed.
        options: Whether anything is to be divided, and how wide a table may be.
    """
    if options.undivided:
        return []
    record = reading.records.shape.record
    found = part_alternatives(record)
    return [*found, *part(record, _kinds(reading), options.most_columns)]


def _kinds(reading: SourceReading) -> dict[Path, list[Kinds]]:
    """Return, by level, by which fields rows fall into kinds."""
    record = reading.records.shape.record
    levels = watched_levels(record)
    if not levels:
        return {}
    counted = [FilledCounts() for _ in levels]
    for counts in reading.mapper.map(FilledWork(record, levels), reading.records.spill.read()):
        if counts is None:
            return {}
        for mine, other in zip(counted, counts, strict=True):
            mine.add(other)
    return {level.path: kinds_of(level, counts) for level, counts in zip(levels, counted, strict=True)}


def lookups_of_draft(reading: SourceReading, parts: Sequence[RowPart]) -> list[RowPart]:
    """Return the fields that follow from another, as parts in which each value of that has one row.

    Args:
        reading: What was read, settled and profiled.
        parts: What is taken off the rows already; fields among that stay where they are.
    """
    record = reading.records.shape.record
    levels = watched_fields(record)
    counts = DependencyCounts()
    for found in reading.mapper.map(
        DependencyWork(record, levels), reading.records.spill.read() if levels else iter(())
    ):
        if found is None:
            return []
        counts.add(found)
    taken = {path for part in parts if not part.is_object for path in part.paths}
    return [
        _lookup(each)
        for each in counts.lookups(record)
        if not any(_is_in(path, taken) for path in (each.path, *(other.path for other in each.following)))
    ]


def _lookup(found: Dependency) -> RowPart:
    paths = tuple(other.path for other in found.following)
    level = level_of(found.path)
    shared = [
        steps[0] for steps in zip(*(path[len(level) :] for path in (found.path, *paths)), strict=False)
        if len(set(steps)) == 1
    ]  # fmt: skip
    words = shared or found.path[-1:]
    why = (
        f"{found.values:,} values decide {len(paths)} other fields, in all {found.rows:,} rows that have them"
    )
    return RowPart(level, paths, tuple(map(str, words)), why, is_whole=False, by=found.path)


def _is_in(path: Path, taken: set[Path]) -> bool:
    return any(path[:count] in taken for count in range(1, len(path) + 1))
