"""Where tasks run: the small interface behind which stand this process, a cluster, or what else may come.

A task is a function of one argument, both of which can be pickled, and does the same whenever it is done
again. What it keeps at its worker for later (`kept_parts`) is a saving: who has lost it makes it again.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any, Generic, Protocol, TypeVar

Task = TypeVar("Task")
Result = TypeVar("Result")


@dataclass(frozen=True, slots=True)
class Done(Generic[Result]):
    """A task that is done: its result, and the worker that did it."""

    result: Result
    worker: str


@dataclass(slots=True)
class WorkerTally:
    """What one worker did.

    Attributes:
        worker: Its name.
        tasks: Tasks it has done whose results counted.
        seconds: How long it worked on them.
        peak_bytes: The most memory that its process had; 0 where that is not known.
    """

    worker: str
    tasks: int = 0
    seconds: float = 0.0
    peak_bytes: int = 0


@dataclass(slots=True)
class EngineTally:
    """What all workers did."""

    workers: dict[str, WorkerTally] = field(default_factory=dict)

    def add(self, worker: str, seconds: float, peak_bytes: int) -> None:
        """Take in a task that is done."""
        tally = self.workers.setdefault(worker, WorkerTally(worker))
        tally.tasks += 1
        tally.seconds += seconds
        tally.peak_bytes = max(tally.peak_bytes, peak_bytes)


class TaskEngine(Protocol):
    """Runs tasks somewhere.

    Attributes:
        name: What it is called in messages.
        worker_count: Tasks that run at once.
        tally: What its workers did so far.
    """

    name: str
    worker_count: int
    tally: EngineTally

    def map(
        self, work: Callable[[Task], Result], tasks: Iterator[Task], is_urgent: bool = False
    ) -> Iterator[Done[Result]]:
        """Yield what becomes of each task, in the order of the tasks; some are under way ahead.

        A task may say by an attribute `near` at which worker it is best done.

        Args:
            work: The function.
            tasks: Its arguments, taken as there is room.
            is_urgent: Whether these go before other tasks that wait.

        Raises:
            SourceError: When the engine has gone.
        """

    def fold(
        self,
        work: Callable[[Task], Result],
        merge: Callable[[Sequence[Result]], Result],
        tasks: Sequence[Task],
    ) -> Result:
        """Return what becomes of all tasks, merged as a tree of tasks, neighbours first."""

    def forget(self, token: str) -> None:
        """Let workers give up what they keep of a run."""

    def __enter__(self) -> Any:
        """Begin."""

    def __exit__(self, *error: object) -> None:
        """End; tasks that are under way count for nothing."""
