"""Sources as one digest for each record: what verify compares with the tables."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping
from contextlib import ExitStack
from dataclasses import dataclass, field, replace
from hashlib import blake2b
from typing import Any

import numpy as np

from tessaron.core.base.faults import Fault, Repeated
from tessaron.core.base.paths import Origin
from tessaron.core.cutting.selecting import Selection
from tessaron.core.cutting.xml_chunks import XmlChunk
from tessaron.core.kernel.chunk_reading import ReadTask, read_tape, repeated_offsets
from tessaron.core.kernel.xml_parsing import around_records
from tessaron.core.rebuild.record_digests import Words
from tessaron.core.rebuild.tape_digests import digests_of, passed_over
from tessaron.core.tape.tape import Tape
from tessaron.engine.aside.spill import Spill
from tessaron.engine.feeds import Feed
from tessaron.engine.options import Options
from tessaron.engine.pool import Pool
from tessaron.engine.reading import SourceReading
from tessaron.engine.run_progress import Progress
from tessaron.sources.inputs import Input


@dataclass(slots=True)
class DigestResult:
    """What a chunk came to: a digest for each record, and all else that a run wants to know of a chunk.

    Attributes:
        digests: One for each record.
        texts: Of records that were asked for: the text by the digest.
        passed: Values that were passed over, by path.
        record_count, faults, repeated, offsets, is_cut, run_counts: As in `engine.feeds.ReadResult`.
    """

    digests: Words
    texts: dict[int, str]
    passed: Mapping[str, int]
    record_count: int
    faults: list[Fault] = field(default_factory=list)
    repeated: list[Repeated] = field(default_factory=list)
    offsets: list[int] = field(default_factory=list)
    is_cut: bool = False
    run_counts: list[int] = field(default_factory=list)


@dataclass(frozen=True, slots=True)
class Compared:
    """What is compared of records of XML beside what is in them.

    Attributes:
        places: In which of several elements they stand.
        names: How their elements are called.
        every_way: Whether the elements above them may have any names, which are compared then too.
    """

    places: bool = False
    names: bool = False
    every_way: bool = False


@dataclass(frozen=True)
class DigestWork:
    """Turns chunks into digests.

    Attributes:
        exact: As in `record_digests`.
        compared: What is compared of records of XML beside what is in them.
        wanted: Digests of records whose text is wanted too.
    """

    exact: bool
    compared: Compared = Compared()
    wanted: frozenset[int] = frozenset()

    def __call__(self, task: ReadTask) -> DigestResult:
        """Return the digests of a chunk."""
        tape, is_cut = read_tape(task)
        result = self.of(tape)
        result.is_cut = is_cut
        result.run_counts = tape.run_counts
        if isinstance(task.chunk, XmlChunk):
            result.digests = result.digests ^ _places(task.chunk, tape, self.compared)
        if self.wanted and len(tape.offsets) == len(result.digests):
            result.texts = self._texts(task, tape, result.digests)
        return result

    def of(self, tape: Tape) -> DigestResult:
        """Return the digests of a tape."""
        return DigestResult(
            digests_of(tape, self.exact), {}, passed_over(tape), tape.record_count, tape.faults,
            tape.repeated, repeated_offsets(tape),
        )  # fmt: skip

    def _texts(self, task: ReadTask, tape: Tape, digests: Words) -> dict[int, str]:
        starts = tape.offsets
        data = task.chunk.data
        # A record of XML takes what is declared around it along.
        head, tail = around_records(task.chunk) if isinstance(task.chunk, XmlChunk) else (b"", b"")
        bounds = [*starts.tolist(), len(data)]
        found = {}
        for index in np.flatnonzero(np.isin(digests, np.array(list(self.wanted), np.uint64))).tolist():
            record = data[bounds[index] : bounds[index + 1]]
            found[int(digests[index])] = (head + record + tail).decode("utf-8", "replace")
        return found


def _places(chunk: XmlChunk, tape: Tape, compared: Compared) -> Words:
    """Return a number for each record that tells what is compared of its place and name; 0 without."""
    made = np.zeros(tape.record_count, np.uint64)
    if compared.places:
        which = chunk.runs_of(tape.offsets)
        ways = [_number(run.way) if compared.every_way or "[" in run.way else 0 for run in chunk.runs]
        made ^= np.array(ways, np.uint64)[which]
    if compared.names:
        names = next(node.texts for node in tape.origins if node.name == Origin.ELEMENT.value)
        known = names.to_arrow().dictionary_encode()
        numbers = np.array([_number(f"<{name}>") for name in known.dictionary.to_pylist()], np.uint64)
        made ^= numbers[known.indices.to_numpy()]
    return made


def _number(text: str) -> int:
    return int.from_bytes(blake2b(text.encode(), digest_size=8).digest())


@dataclass(slots=True)
class Digests:
    """The digests of some records that stand together.

    Attributes:
        source: Where they are from.
        first: The number of the first in its source, among those that could be read, from 1.
        digests: One for each.
        texts: As in `DigestResult`.
    """

    source: str
    first: int
    digests: Words
    texts: dict[int, str]


@dataclass
class _Around(Feed):
    """Takes in the documents around the records."""

    digests: list[int] = field(default_factory=list)

    def add(self, result: Any, records_before: int, source: str) -> None:
        """Keep the digests of documents."""
        self.digests += result.digests.tolist()


class SourceDigests:
    """Reads sources and gives the digests of their records.

    Args:
        inputs: What is read.
        options: How.
        selection: What is wanted of the records; None for everything.
        exact: As in `record_digests`.
        progress: Is told how far reading is.
        wanted, compared: As in `DigestWork`.

    Attributes:
        reading: What was read.
        passed: Values that were passed over, by path.
        around: The digests of the documents around the records.
    """

    def __init__(
        self,
        inputs: list[Input],
        options: Options,
        selection: Selection | None,
        exact: bool,
        progress: Progress,
        stack: ExitStack,
        wanted: frozenset[int] = frozenset(),
        compared: Compared | None = None,
    ):
        pool = stack.enter_context(Pool(options.worker_count(), [entry.size for entry in inputs]))
        self._records = Feed(stack.enter_context(Spill()))
        self._documents = _Around(stack.enter_context(Spill()))
        self.reading = SourceReading(inputs, replace(options), self._records, self._documents, progress, pool)
        self.reading.selection = selection
        self.reading.work = DigestWork(exact, compared or Compared(), wanted)
        self.reading.around = DigestWork(exact)
        self.passed: Counter[str] = Counter()

    @property
    def around(self) -> list[int]:
        """The digests of the documents around the records, in their order."""
        return self._documents.digests

    def __iter__(self) -> Iterator[Digests]:
        number, last = 0, None
        for source, result, _ in self.reading.results():
            number = number if source == last else 0
            last = source
            self.passed.update(result.passed)
            yield Digests(source, number + 1, result.digests, result.texts)
            number += result.record_count
