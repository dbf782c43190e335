"""The parts of rows that a draft makes tables of: one more pass over what was put aside, where it is due."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from difflib import get_close_matches

from tessaron.core.base.errors import UsageError
from tessaron.core.base.paths import Path, format_path, level_of
from tessaron.core.base.visible import in_quotes
from tessaron.core.layout.path_spelling import rows_path
from tessaron.core.model.dependencies import Dependency, DependencyCounts, DependencyWork, watched_fields
from tessaron.core.model.division import Division, spared_by
from tessaron.core.model.filled_by_kind import FilledCounts, FilledWork, Kinds, kinds_of, watched_levels
from tessaron.core.model.identities import Identities, IdentityWork, WatchedStructure
from tessaron.core.model.level_places import with_paths
from tessaron.core.model.parting import RowPart, part, part_alternatives
from tessaron.core.model.sharing import SharedStructure, Sharing
from tessaron.core.shape.shape_node import ShapeNode
from tessaron.engine.options import Options
from tessaron.engine.reading import SourceReading


def division_of_draft(reading: SourceReading, options: Options) -> Division:
    """Divide the records' shape into what shall be tables of their own, and return how.

    Args:
        reading: What was read and settled; its shape is changed.
        options: Whether anything is to be divided or shared, and how wide a table may be.

    Raises:
        UsageError: When a structure shall be shared that stands nowhere, or at one place.
    """
    record = reading.records.shape.record
    shared = _shared(reading, options)
    if options.undivided:
        return Division((), shared)
    spared = spared_by(shared)
    found = part_alternatives(record, spared)
    parts = [*found, *part(record, _kinds(reading), options.most_columns, spared)]
    return Division(parts, shared)


def _shared(reading: SourceReading, options: Options) -> list[SharedStructure]:
    """Return the structures that get one table for all their places."""
    record = reading.records.shape.record
    wanted = WantedPlaces(options.shared)
    by_itself = not (options.undivided or options.not_shared)
    if not by_itself and not wanted:
        return []
    sharing = Sharing(record, wanted)
    sharing.make_rows(options.most_columns, by_itself)
    shared = sharing.shared(_identities(reading, sharing.watched()))
    wanted.check(record, shared)
    firsts = {id(each.nodes[0]) for each in shared}
    paths = {id(node): rows_path(path, record) for node, path in with_paths(record) if id(node) in firsts}
    reading.intake.notes += [(paths[id(each.nodes[0])], _said_of(each)) for each in shared]
    return shared


def _identities(reading: SourceReading, watched: Sequence[WatchedStructure]) -> dict[int, tuple[Path, ...]]:
    """Return the fields that decide all others, by the number of the structure: one more pass, where due."""
    found = Identities(watched)
    work = IdentityWork(reading.records.shape.record, watched)
    for decided in reading.mapper.map(work, reading.records.spill.read() if watched else iter(())):
        if decided is None:
            return {}
        found.add(decided)
    return found.of_structures()


def _said_of(shared: SharedStructure) -> str:
    fields = " and ".join(format_path(path).removeprefix("$.") for path in shared.by)
    what = f"a row for each {fields}" if shared.by else "with the place"
    return f"the same structure at {len(shared.nodes):,} places: one table for all, {what}"


class WantedPlaces:
    """The structures that shall be shared: a path of each, as a survey shows it."""

    def __init__(self, texts: Sequence[str]):
        self._texts = {_without_each(text.strip()): text for text in texts}

    def __bool__(self) -> bool:
        return bool(self._texts)

    def __call__(self, path: Path) -> bool:
        """Say whether the structure at a path was named."""
        return _without_each(format_path(path)) in self._texts

    def check(self, record: ShapeNode, shared: Sequence[SharedStructure]) -> None:
        """Check that all that was named is shared now.

        Raises:
            UsageError: When it is not.
        """
        levels = {id(level) for each in shared for level in each.nodes}
        paths = {_without_each(format_path(path)): id(node) for node, path in with_paths(record)}
        there = {_without_each(format_path(path)) for node, path in with_paths(record) if id(node) in levels}
        for plain, text in self._texts.items():
            if plain in there:
                continue
            if plain in paths:
                reason = "is no structure that stands elsewhere too, or is part of one that contains itself"
                raise UsageError(f"{in_quotes(text)} {reason}; tessaron survey shows what stands where")
            near = get_close_matches(plain, list(paths), 3, 0.5)
            hint = f"near it: {', '.join(near)}" if near else "tessaron survey shows all paths"
            raise UsageError(f"nothing stands at {in_quotes(text)}, so it cannot be shared; {hint}")


def _without_each(path: str) -> str:
    """Return a path as text without the steps to each element: what is named is the structure."""
    return path.replace("[*]", "").rstrip("/") or path


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


def with_lookups(division: Division, reading: SourceReading) -> Division:
    """Return a division in which the fields that follow from another are parts, too.

    Each value of that other field has one row in such a part.

    Args:
        division: What has tables of its own already; fields among that stay where they are.
        reading: What was read, settled and profiled.
    """
    return replace(division, parts=[*division.parts, *_lookups(reading, division.parts)])


def _lookups(reading: SourceReading, parts: Sequence[RowPart]) -> list[RowPart]:
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
