"""The parts of rows that a draft makes tables of: one more pass over what was put aside, where it is due."""

from __future__ import annotations

from tessaron.core.base.paths import Path
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
