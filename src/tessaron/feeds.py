"""What a run's first half fills: fragments of one sort with their shape; and what it works with."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from typing import Any, Protocol

from tessaron.core.faults import Fault, Repeated
from tessaron.core.fragment import Fragment
from tessaron.core.paths import Path
from tessaron.core.record_places import RecordPlaces
from tessaron.core.shape import Shape
from tessaron.core.structure import StructureRules, settle_names
from tessaron.core.work import ReadResult, ReadTask, ReshapeTask, read_chunk, reshape
from tessaron.spill import Spill


class Progress(Protocol):
    """Is told how far a run is; see `views.progress` for one that draws a bar."""

    def start(self, total_bytes: int | None) -> None:
        """Reading begins; `total_bytes` is None when a source does not tell its size."""

    def say(self, text: str) -> None:
        """Something is to be known before the run goes on."""

    def read(self, byte_count: int) -> None:
        """So many more bytes were read."""

    def write(self, step: int, steps: int) -> None:
        """Of `steps` fragments, `step` were turned into rows."""


class NoProgress:
    """Is told, and shows nothing."""

    def start(self, total_bytes: int | None) -> None:
        """Do nothing."""

    def say(self, text: str) -> None:
        """Do nothing."""

    def read(self, byte_count: int) -> None:
        """Do nothing."""

    def write(self, step: int, steps: int) -> None:
        """Do nothing."""


class Mapper(Protocol):
    """Applies a function to tasks, perhaps in other processes; results come in the order of the tasks."""

    def map(self, work: Callable[[Any], Any], tasks: Iterator[Any]) -> Iterator[Any]:
        """Yield `work(task)` for each task."""


class Result(Protocol):
    """What a chunk or fragment becomes: `work.ReadResult`, or `laying.work.LaidResult`."""

    record_count: int
    faults: list[Fault]
    repeated: list[Repeated]
    offsets: list[int]
    is_cut: bool


class Work(Protocol):
    """What is done with chunks of records, perhaps in other processes, and with fragments made here."""

    def __call__(self, task: ReadTask) -> Any:
        """Return the result for a chunk."""

    def of(self, fragment: Fragment, places: RecordPlaces | None = None) -> Any:
        """Return the result for a fragment."""


class ShapeWork:
    """Parses, and learns the shape."""

    def __call__(self, task: ReadTask) -> ReadResult:
        """Return the fragment of a chunk and its shape."""
        return read_chunk(task)

    def of(self, fragment: Fragment, places: RecordPlaces | None = None) -> ReadResult:
        """Return a fragment packed, and its shape."""
        return ReadResult.of(fragment, None, places)


@dataclass(slots=True)
class Feed:
    """Fragments of one sort, with their shape: the records, or the documents around them."""

    spill: Spill
    shape: Shape = field(default_factory=Shape)
    records_before: list[int] = field(default_factory=list)
    sources: list[str] = field(default_factory=list)

    def add(self, result: ReadResult, records_before: int, source: str) -> None:
        """Put the next fragment aside."""
        self.shape.merge(result.shape)
        self.spill.write(result.packed)
        self.records_before.append(records_before)
        self.sources.append(source)

    def settle_names(self, rules: StructureRules, mapper: Mapper, is_survey: bool) -> None:
        """Settle which objects of many names are dictionaries; regroup fragments that took others so."""
        settled: dict[Path, bool] = {}
        while (known := settle_names(self.shape, rules, settled)) != settled:
            settled = known
            counts = {path: _name_count(self.shape, path) for path in settled}
            tasks = (
                ReshapeTask(packed, settled, source if is_survey else None)
                for packed, source in zip(self.spill.read(), self.sources, strict=True)
            )
            self.shape, again = Shape(settled), Spill()
            for result in mapper.map(reshape, tasks):
                self.shape.merge(result.shape)
                again.write(result.packed)
            self.spill.replace_by(again)
            for path, count in counts.items():
                node = self.shape.node_at(path)
                if node is not None and node.is_dictionary:
                    node.name_count = count


def _name_count(shape: Shape, path: Path) -> int:
    node = shape.node_at(path)
    return 0 if node is None else len(node.names or ()) or node.name_count
