"""Tapes that were put aside elsewhere, as a feed: passes go there, what they find comes back."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from itertools import chain
from typing import Any

from tessaron.core.base.paths import Path
from tessaron.core.model.name_trees import FoundTree
from tessaron.core.shape.shape import Shape
from tessaron.engine.feeds import Feed, Mapper
from tessaron.engine.parts.part_events import PartBase, PartedSources
from tessaron.engine.parts.part_specs import LightResult, PackedOnce, PartTask, RowWork, SourcePart
from tessaron.engine.parts.part_work import (
    Learnt,
    lay_part,
    learn_part_again,
    learnt_of_part,
    merge_learnt,
    pass_over_part,
    read_part,
)


@dataclass
class PartSpill:
    """Stands for the tapes of parts, in the order of the parts."""

    parts: list[SourcePart] = field(default_factory=list)

    def read(self) -> Iterator[SourcePart]:
        """Yield the parts: a pass over them goes where their tapes are."""
        return iter(self.parts)

    def __len__(self) -> int:
        return len(self.parts)


@dataclass(slots=True)
class PartedFeed(Feed):
    """Takes in records that were put aside elsewhere.

    Attributes:
        sources: The sources.
    """

    elsewhere: PartedSources | None = None

    @property
    def parts(self) -> list[SourcePart]:
        """The parts taken in."""
        return self._tapes.parts

    @property
    def _tapes(self) -> PartSpill:
        found: Any = self.spill
        assert isinstance(found, PartSpill)
        return found

    @property
    def _sources(self) -> PartedSources:
        assert self.elsewhere is not None
        return self.elsewhere

    def add(self, result: Any, records_before: int, source: str) -> None:
        """Take in what is told of the next chunk."""
        light: LightResult = result
        number = light.part.number
        if not self.joins:
            # Each of its tapes has one source then.
            self.sources.append(source)
            self.records_before.append(records_before)
        if not self.parts or self.parts[-1].number != number:
            self.parts.append(light.part)
            self._sources.bases.setdefault(number, PartBase(records_before))

    def close(self) -> None:
        """Do nothing: nothing waits here."""

    def seen(self) -> Shape:
        """Return what was learnt, merged as a tree of tasks; not settled yet."""
        if self._seen is None:
            self._seen, passed = self._merged(learnt_of_part)
            self.passed += passed
        return self._seen

    def _learnt_again(self, settled: Mapping[Path, bool], mapper: Mapper) -> Shape:
        return self._merged(learn_part_again, dict(settled))[0]

    def _merged(self, work: Callable[[PartTask], Learnt], detail: Any = None) -> Learnt:
        if not self.parts:
            return Shape(), Counter()
        packed = self._sources.packed()
        tasks = [PartTask(packed, part, detail) for part in self.parts]
        return self._sources.engine.fold(work, merge_learnt, tasks)

    def gather(self, trees: Sequence[FoundTree], mapper: Mapper) -> None:
        """Let the nodes of trees come together: the parts are read once more, knowing of them."""
        if not trees:
            return
        settled = {path: True for tree in trees for path in tree.dictionaries()}
        self._tree_names = {tree.gathered.path: tree.name_count for tree in trees}
        sources = self._sources
        assert sources.context is not None
        sources.engine.forget(sources.context.token)
        wanted = replace(sources.context.wanted, gathered=tuple(tree.gathered for tree in trees))
        sources.context = replace(sources.context, token=f"{sources.token}+", wanted=wanted)
        packed = sources.packed()
        tasks = (PartTask(packed, replace(part, near="")) for part in self.parts)
        moved = [
            replace(part, near=done.worker)
            for part, done in zip(self.parts, sources.engine.map(read_part, tasks), strict=True)
        ]
        self._tapes.parts[:] = moved
        self.learners.settled = settled
        self._seen = self._merged(learn_part_again, settled)[0]


class PartMapper:
    """Applies functions to tapes where these are: to those elsewhere there, to others in threads here.

    Args:
        here: Does what is here.
        sources: What is elsewhere.
    """

    def __init__(self, here: Mapper, sources: PartedSources):
        self._here, self._sources = here, sources

    def map(self, work: Callable[[Any], Any], tasks: Iterator[Any]) -> Iterator[Any]:
        """Yield what becomes of each tape, in order; see `Mapper`."""
        first = next(tasks, None)
        if first is None:
            return
        everything = chain((first,), tasks)
        if not isinstance(first, SourcePart):
            yield from self._here.map(work, everything)
            return
        packed = self._sources.packed()
        packed_work = PackedOnce.of(work)
        jobs = (PartTask(packed, part, packed_work) for part in everything)
        for done in self._sources.engine.map(pass_over_part, jobs):
            yield from done.result

    def lay(self, work: RowWork, parts: Iterator[SourcePart]) -> Iterator[LightResult]:
        """Make rows of tapes that are elsewhere, to be kept there; yield what there is to tell of each."""
        sources = self._sources
        assert sources.context is not None
        sources.context = replace(sources.context, lays=work)
        packed: PackedOnce = sources.packed()
        waiting: list[SourcePart] = []

        def jobs() -> Iterator[PartTask]:
            for part in parts:
                waiting.append(part)
                yield PartTask(packed, part)

        for done in sources.engine.map(lay_part, jobs()):
            part = replace(waiting.pop(0), near=done.worker)
            sources.tell()
            yield from (replace(light, part=part) for light in done.result)
