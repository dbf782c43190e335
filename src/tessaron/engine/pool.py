"""Worker threads: tasks go out, results come back in the order of the tasks.

Kernels, passes over the tape and Arrow give the interpreter lock up while they work, so threads are enough.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from types import TracebackType
from typing import TypeVar

from tessaron.core.kernel.chunk_reading import ReadTask

PARALLEL_BYTES = 16 * 1024 * 1024
"""Smaller inputs are read by one thread."""
_TASKS_AHEAD = 1
"""Tasks beyond one for each thread that are out, or whose results wait for their turn."""

Task = TypeVar("Task")
Result = TypeVar("Result")


class Pool:
    """A context with worker threads, started when there is enough to do.

    Args:
        count: Threads that work on tasks.
        sizes: Bytes of each input, None where unknown: workers start when it comes to more than a little.
    """

    def __init__(self, count: int, sizes: Sequence[int | None]):
        self._count = count
        self._known_bytes = sum(size for size in sizes if size is not None)
        self._threads: ThreadPoolExecutor | None = None

    def __enter__(self) -> Pool:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        if self._threads is not None:
            self._threads.shutdown(cancel_futures=True)

    def map(self, work: Callable[[Task], Result], tasks: Iterator[Task]) -> Iterator[Result]:
        """Yield `work(task)` for each task, in order."""
        done = 0
        while not self._is_worth_threads(done):
            task = next(tasks, None)
            if task is None:
                return
            yield work(task)
            done += len(task.chunk.data) if isinstance(task, ReadTask) else 0
        self._threads = self._threads or ThreadPoolExecutor(self._count, "tessaron")
        waiting: deque[Future[Result]] = deque()
        try:
            for task in tasks:
                waiting.append(self._threads.submit(work, task))
                if len(waiting) >= self._count + _TASKS_AHEAD:
                    yield waiting.popleft().result()
            while waiting:
                yield waiting.popleft().result()
        finally:
            for left in waiting:
                left.cancel()

    def _is_worth_threads(self, done: int) -> bool:
        """Say whether threads shall go on, when so many bytes are done."""
        return self._count > 1 and (
            self._threads is not None or max(done, self._known_bytes) > PARALLEL_BYTES
        )
