"""What a run has taken in of its sources so far, and how much more is wanted."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from typing import Any

from tessaron.core.base.errors import DataError
from tessaron.core.base.faults import Fault, Repeated
from tessaron.core.base.paths import format_path
from tessaron.core.cutting.json_splitting import Chunk
from tessaron.core.cutting.selecting import Selection
from tessaron.core.kernel.chunk_reading import ReadTask
from tessaron.core.tape.gathering import Gathered
from tessaron.core.tape.tape import Tape
from tessaron.engine.aside.reject_log import Reject, RejectLog
from tessaron.engine.feeds import Feed, Mapper, Work
from tessaron.engine.options import Options
from tessaron.engine.run_progress import Progress

NOTES_KEPT = 1_000
"""So many repeated names are kept with their place; all are counted."""


@dataclass(frozen=True, slots=True)
class SourceRead:
    """One source: its name, the bytes read, the records in the tables, and those left out."""

    name: str
    bytes: int
    records: int
    rejected: int = 0


@dataclass(frozen=True, slots=True)
class Wanted:
    """What a run wants of its sources.

    Attributes:
        options: How they are read.
        is_survey: Whether the profile of every path is wanted.
        selection: What is wanted of the records; None for everything.
        gathered: Trees whose nodes come together, where these are known before.
        above: Whether values of the elements around records of XML are wanted with them.
    """

    options: Options
    is_survey: bool = False
    selection: Selection | None = None
    gathered: tuple[Gathered, ...] = ()
    above: bool = False

    @property
    def origin(self) -> bool:
        """Whether it is kept where records stand."""
        return self.options.origin or self.is_survey

    @property
    def content(self) -> bool:
        """Whether keys are made of the text of the records."""
        return self.options.keys == "digest" and not self.options.key


@dataclass(slots=True)
class Intake:
    """What was read so far.

    Attributes:
        progress: Is told how many bytes were read.
        log: Records that were left out, with their places.
        sources: What was read from each input.
        notes: What was recognised, as (path, text).
        passed: Values that were passed over, by path.
        rejected: How many records were left out.
        repeated: How many values gave way to a later one of the same name in the same object.
        repeated_names: By path, how often that happened, and the first case in words.
        is_partial: Whether only the first records were read, and there are more.
        still_wanted: How many more records are wanted; None for all there are.
        byte_count: Bytes read.
        first_error: Why the first of the rejects is one.
    """

    progress: Progress
    log: RejectLog = field(default_factory=RejectLog)
    sources: list[SourceRead] = field(default_factory=list)
    notes: list[tuple[str, str]] = field(default_factory=list)
    passed: Counter[str] = field(default_factory=Counter)
    rejected: int = 0
    repeated: int = 0
    repeated_names: dict[str, tuple[int, str]] = field(default_factory=dict)
    is_partial: bool = False
    still_wanted: int | None = None
    byte_count: int = 0
    first_error: DataError | None = None

    def count_bytes(self, byte_count: int) -> None:
        """Take in that so many more bytes were read."""
        self.byte_count += byte_count
        self.progress.read(byte_count)

    def has_enough(self) -> bool:
        """Say whether as many records were read as are wanted."""
        return self.still_wanted is not None and self.still_wanted <= 0

    def take_wanted(self, count: int) -> None:
        """Take in that so many more records were read."""
        self.still_wanted = None if self.still_wanted is None else self.still_wanted - count

    def reject(
        self, error: DataError, raw: bytes | None = None, what: str = "record", is_whole: bool = True
    ) -> None:
        """Count a record that was left out, and keep where, why and what it was.

        Args:
            error: Why.
            raw: The record as it stands in the source.
            what: As in `Reject.rejected`.
            is_whole: Whether `raw` is the record and nothing else.
        """
        self.rejected += 1
        self.first_error = self.first_error or error
        reject = Reject.of(error, raw, what)
        self.log.add_fault(reject if is_whole else replace(reject, is_whole=False))

    def check_any(self) -> None:
        """Check that there is something to make tables of.

        Raises:
            DataError: When not one record could be read: the first reason.
        """
        if self.first_error is not None and not any(source.records for source in self.sources):
            raise self.first_error

    def note_repeated(self, found: Repeated, source: str, line: int) -> None:
        """Take in that a name stood twice in an object of the record that begins in a line."""
        self.repeated += 1
        path = format_path(found.path)
        count, first = self.repeated_names.get(path, (0, ""))
        is_kept = len(self.notes) < NOTES_KEPT
        if is_kept or not first:
            shown = found.value if self.log.keeps_records else "value"
            first = first or f"in line {line:,} of {source}, where {shown} gave way"
            text = f"stands twice in its object ({source}, line {line}); the earlier {shown} gave way"
            self.notes += [(path, text)] if is_kept else []
        self.repeated_names[path] = (count + 1, first)


@dataclass(frozen=True, slots=True)
class ChunkWorks:
    """What is done with what was read.

    Attributes:
        mapper: Hands chunks to threads.
        work: What is done with records.
        around: What is done with the documents around them.
        records: What takes records in, where these are put aside.
        documents: What takes documents in.
    """

    mapper: Mapper
    work: Work
    around: Work
    records: Feed
    documents: Feed

    def results_of(self, tasks: Iterator[Any]) -> Iterator[tuple[Any, Any]]:
        """Yield tasks with what becomes of them, in their order; what is no `ReadTask` comes with nothing."""
        return self.mapper.map(self._with_result, tasks)

    def give_up_ahead(self) -> None:
        """Take in that what was read ahead of the last result counts for nothing."""
        self.records.is_ahead = self.documents.is_ahead = True

    def _with_result(self, task: Any) -> tuple[Any, Any]:
        if not isinstance(task, ReadTask) or not task.chunk.data:
            return task, None
        is_around = isinstance(task.chunk, Chunk) and task.chunk.is_skeleton
        return task, (self.around if is_around else self.work)(task)

    def of(self, tape: Tape) -> Any:
        """Return what becomes of a tape that was made here."""
        return self.work.of(tape)

    def add_documents(self, task: ReadTask, source: str) -> list[Fault]:
        """Take in documents without their records; return what is wrong with them."""
        result = self.around(task)
        self.documents.add(result, 0, source)
        return list(result.faults)
