"""What a run's first half fills: chunks put aside with their shape; and what it works with."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from threading import Lock
from typing import Any, Protocol

from tessaron.core.base.faults import Fault, Repeated
from tessaron.core.base.paths import Path
from tessaron.core.cutting.json_splitting import Chunk
from tessaron.core.kernel.chunk_reading import ReadTask, read_tape, repeated_offsets
from tessaron.core.model.name_trees import FoundTree
from tessaron.core.shape.learning import Learner, new_learner
from tessaron.core.shape.shape import Shape
from tessaron.core.shape.structure import StructureRules, settle_names
from tessaron.core.tape.fragment import Fragment
from tessaron.core.tape.gathering import Gathered, gather
from tessaron.core.tape.joining import join_tapes, with_records_before
from tessaron.core.tape.put_aside import Packed, pack, unpack
from tessaron.core.tape.tape import Tape
from tessaron.engine.aside.spill import Spill

_WORTH_BYTES, _STEP_BYTES, _MOST_BYTES = 4 * 1024 * 1024, 16 * 1024, 24 * 1024 * 1024
"""Tapes of fewer bytes are joined with those that follow: the more bytes the more names they have, up to the
last of these numbers, as every column of a chunk costs something, however little is in it."""


class Mapper(Protocol):
    """Applies a function to tasks, perhaps in other threads; results come in the order of the tasks."""

    def map(self, work: Callable[[Any], Any], tasks: Iterator[Any]) -> Iterator[Any]:
        """Yield `work(task)` for each task."""


class ChunkResult(Protocol):
    """What a chunk becomes: `ReadResult`, or `tables.lay_work.LaidResult`."""

    record_count: int
    faults: list[Fault]
    repeated: list[Repeated]
    offsets: list[int]
    is_cut: bool


class Work(Protocol):
    """What is done with chunks of records, perhaps in other threads, and with tapes made here."""

    def __call__(self, task: ReadTask) -> Any:
        """Return the result for a chunk."""

    def of(self, tape: Tape) -> object:
        """Return the result for a tape."""


class Learners:
    """Learners for several threads: each tape goes to one that is free.

    Args:
        compiled: Whether they may be compiled ones.
        settled: What is known already of objects with many names.
    """

    def __init__(self, compiled: bool, settled: Mapping[Path, bool] | None = None):
        self.is_compiled, self.settled = compiled, settled or {}
        self._free: list[Learner] = []
        self._all: list[Learner] = []
        self._lock = Lock()

    def learn(self, tape: Tape) -> None:
        """Take in a tape."""
        with self._lock:
            learner = self._free.pop() if self._free else None
            if learner is None:
                learner = new_learner(self.settled, self.is_compiled)
                self._all.append(learner)
        learner.learn(tape)
        with self._lock:
            self._free.append(learner)

    def shape(self) -> tuple[Shape, Counter[str]]:
        """Return what all have learnt together, and how many values were passed over, by path."""
        if not self._all:
            return Shape(self.settled), Counter()
        (shape, passed), *others = (learner.shape() for learner in self._all)
        for shape_of_other, passed_by_other in others:
            shape.merge(shape_of_other)
            passed += passed_by_other
        return shape, passed


@dataclass(slots=True)
class ReadResult:
    """A parsed chunk, to be put aside.

    Attributes:
        read: Its tape or fragment.
        record_count: Records in it.
        faults: The records that could not be read.
        repeated: Names that stood twice in an object.
        offsets: Where the records of `repeated` begin in the chunk, in bytes.
        shape: What the records look like; None where a learner has taken that in.
        is_cut: Whether there were more records in the chunk than were wanted.
        passed: Values that were passed over, by path; where a learner has taken that in, none.
        run_counts: For XML: how many of the records each run of the chunk has.
        is_refused: Whether nothing was taken of it, as its sources are to be read one by one.
    """

    read: Tape | Fragment
    record_count: int
    faults: list[Fault]
    repeated: list[Repeated]
    offsets: list[int]
    shape: Shape | None = None
    is_cut: bool = False
    passed: Mapping[str, int] = field(default_factory=dict)
    run_counts: list[int] = field(default_factory=list)
    is_refused: bool = False


@dataclass(frozen=True)
class ShapeWork:
    """Parses, and learns the shape."""

    learners: Learners

    def __call__(self, task: ReadTask) -> ReadResult:
        """Return the tape of a chunk, put aside; of several files nothing where not all is well in each."""
        tape, is_cut = read_tape(task)
        sources = task.chunk.sources if isinstance(task.chunk, Chunk) else ()
        if sources and (tape.faults or tape.repeated or tape.record_count != len(sources)):
            return ReadResult(tape, 0, [], [], [], is_refused=True)
        result = self.of(tape)
        result.is_cut = is_cut
        return result

    def of(self, tape: Tape) -> ReadResult:
        """Return a tape, put aside."""
        self.learners.learn(tape)
        offsets = repeated_offsets(tape)
        return ReadResult(
            tape, tape.record_count, tape.faults, tape.repeated, offsets, run_counts=tape.run_counts
        )


@dataclass(slots=True)
class Feed:
    """Chunks of one sort, with their shape: the records, or the documents around them.

    Attributes:
        spill: The chunks.
        learners: What learns their structure.
        shape: That structure, once it is learnt.
        passed: Values that were passed over, by path.
        joins: Whether small chunks are joined with those that follow.
        most_bytes: Bytes of a tape beyond which none is joined.
        sources: The source of each chunk that was added.
        records_before: For each of them the records of the same source before it.
        is_ahead: Whether learners have seen more than was added, as what was read ahead was given up.
    """

    spill: Spill
    learners: Learners = field(default_factory=lambda: Learners(True))
    shape: Shape = field(default_factory=Shape)
    passed: Counter[str] = field(default_factory=Counter)
    joins: bool = True
    most_bytes: int = _MOST_BYTES
    sources: list[str] = field(default_factory=list)
    records_before: list[int] = field(default_factory=list)
    is_ahead: bool = False
    _waiting: list[Tape] = field(default_factory=list)
    _waiting_bytes: int = 0
    _seen: Shape | None = None
    _tree_names: dict[Path, int] = field(default_factory=dict)

    def add(self, result: ReadResult, records_before: int, source: str) -> None:
        """Put the next chunk aside; small ones wait until they are worth a tape of their own together."""
        if result.shape is not None:
            self.shape.merge(result.shape)
        self.passed.update(result.passed)
        self.sources.append(source)
        self.records_before.append(records_before)
        if not isinstance(result.read, Tape):
            self.close()
            self.spill.write(pack(result.read))
            return
        tape = with_records_before(result.read, records_before)
        if self._waiting_bytes + tape.byte_count > self.most_bytes:
            self.close()
        self._waiting.append(tape)
        self._waiting_bytes += tape.byte_count
        worth = min(max(_WORTH_BYTES, tape.step_count * _STEP_BYTES), self.most_bytes)
        if not self.joins or self._waiting_bytes >= worth:
            self.close()

    def close(self) -> None:
        """Put aside what waits."""
        if self._waiting:
            self.spill.write(pack(join_tapes(self._waiting)))
            self._waiting.clear()
            self._waiting_bytes = 0

    def learnt(self, rules: StructureRules, mapper: Mapper, is_survey: bool) -> None:
        """Take in what was learnt, and settle which objects of many names are dictionaries.

        Args:
            rules: What the user says.
            mapper: Goes over what was put aside once more, where some are none after all.
            is_survey: Whether the profile of every path is wanted.
        """
        shape = self.seen()
        settled = dict(self.learners.settled)
        while (known := settle_names(shape, rules, settled)) != settled:
            counts = {path: _name_count(shape, path) for path in known}
            settled = known
            shape = self._learnt_again(settled, mapper)
            for path, count in counts.items():
                node = shape.node_at(path)
                if node is not None and node.is_dictionary:
                    node.name_count = count
        for path, names in self._tree_names.items():
            shape.record.at(path).name_count = names
        self.shape, self._seen = shape, None
        if is_survey:
            self._profile(mapper)

    def _learnt_again(self, settled: Mapping[Path, bool], mapper: Mapper) -> Shape:
        """Return what was learnt of what was put aside, knowing more than at first."""
        again = _LearnAgain(Learners(self.learners.is_compiled, settled), settled)
        beside: Shape | None = None
        for part in mapper.map(again, self.spill.read()):
            if part is not None and beside is not None:
                beside.merge(part)
            beside = beside or part
        shape = again.learners.shape()[0]
        if beside is not None:
            shape.merge(beside)
        return shape

    def seen(self) -> Shape:
        """Return what was learnt, not settled yet; what waits is put aside."""
        if self._seen is None:
            self.close()
            if self.is_ahead:
                self._learn_anew()
            shape, passed = self.learners.shape()
            shape.merge(self.shape)
            self._seen = shape
            self.passed += passed
        return self._seen

    def _learn_anew(self) -> None:
        """Learn the structure of what was put aside, and of nothing else."""
        self.learners = Learners(self.learners.is_compiled, self.learners.settled)
        for packed in self.spill.read():
            read = unpack(packed)
            if isinstance(read, Tape):
                self.learners.learn(read)
        self.is_ahead = False

    def gather(self, trees: Sequence[FoundTree], mapper: Mapper) -> None:
        """Let the nodes of trees come together in what was put aside, and learn that anew."""
        if not trees:
            return
        settled = {path: True for tree in trees for path in tree.dictionaries()}
        self._tree_names = {tree.gathered.path: tree.name_count for tree in trees}
        self.learners = Learners(self.learners.is_compiled, settled)
        gathering = _Gathering(self.learners, tuple(tree.gathered for tree in trees))
        self.spill.rewrite(mapper.map(gathering, self.spill.read()))
        self._seen = None

    def _profile(self, mapper: Mapper) -> None:
        # Only surveys, and drafts for people, want profiles.
        from tessaron.core.shape.profiling import ProfileWork

        work = ProfileWork(self.shape.record)
        for profiles in mapper.map(work, self.spill.read()):
            for path, profile in profiles.items():
                node = self.shape.node_at(path)
                if node is not None:
                    node.add_profile(profile)


@dataclass(frozen=True)
class _LearnAgain:
    """Learns the structure of what was put aside, knowing more than at first."""

    learners: Learners
    settled: Mapping[Path, bool]

    def __call__(self, packed: Packed) -> Shape | None:
        """Return the shape of a fragment; that of a tape is known to the learners then."""
        read = unpack(packed)
        if isinstance(read, Tape):
            self.learners.learn(read)
            return None
        shape = Shape(self.settled)
        shape.add(read, read.places)
        return shape


@dataclass(frozen=True)
class _Gathering:
    """Lets the nodes of trees come together in what was put aside, and learns its structure."""

    learners: Learners
    trees: tuple[Gathered, ...]

    def __call__(self, packed: Packed) -> Packed:
        """Return a chunk as it is to be put aside."""
        read = unpack(packed)
        if not isinstance(read, Tape):
            return packed
        made = gather(read, self.trees)
        self.learners.learn(made)
        # What is put aside may not look into what was before: that goes as soon as it is read.
        return packed if made is read else pack(replace(made, data=bytes(made.data)))


def _name_count(shape: Shape, path: Path) -> int:
    node = shape.node_at(path)
    return 0 if node is None else len(node.names or ()) or node.name_count
