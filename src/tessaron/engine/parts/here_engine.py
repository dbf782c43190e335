"""Tasks in threads of this process: what a cluster does, without one."""

from __future__ import annotations

import pickle
import threading
import time
from collections import deque
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from typing import Any

from tessaron.engine.parts.kept_parts import forget_run
from tessaron.engine.parts.task_engine import Done, EngineTally, Result, Task

_MERGED_AT_ONCE = 16


class HereEngine:
    """Runs tasks in threads; they and their results are pickled, as on the way to elsewhere.

    Args:
        count: Threads.
    """

    def __init__(self, count: int):
        self.name, self.worker_count, self.tally = f"here:{count}", count, EngineTally()
        self._threads = ThreadPoolExecutor(count, "tessaron-part")
        self._lock = threading.Lock()

    def __enter__(self) -> HereEngine:
        return self

    def __exit__(self, *error: object) -> None:
        self._threads.shutdown(cancel_futures=True)

    def map(
        self, work: Callable[[Task], Result], tasks: Iterator[Task], is_urgent: bool = False
    ) -> Iterator[Done[Result]]:
        """Yield what becomes of each task, in order; see `TaskEngine`."""
        waiting: deque[Future[Done[Result]]] = deque()
        try:
            for task in tasks:
                waiting.append(self._threads.submit(self._done, work, pickle.dumps(task)))
                if len(waiting) > 2 * self.worker_count:
                    yield waiting.popleft().result()
            while waiting:
                yield waiting.popleft().result()
        finally:
            for left in waiting:
                left.cancel()

    def fold(
        self,
        work: Callable[[Task], Result],
        merge: Callable[[Sequence[Result]], Result],
        tasks: Sequence[Task],
    ) -> Result:
        """Return what becomes of all tasks, merged; see `TaskEngine`."""
        found = [done.result for done in self.map(work, iter(tasks))]
        while len(found) > 1:
            groups = [found[at : at + _MERGED_AT_ONCE] for at in range(0, len(found), _MERGED_AT_ONCE)]
            found = [done.result for done in self.map(merge, iter(groups))]
        return found[0]

    def forget(self, token: str) -> None:
        """Give up what is kept of a run."""
        forget_run(token)

    def _done(self, work: Callable[[Any], Any], packed: bytes) -> Done[Any]:
        begun = time.perf_counter()
        result = pickle.loads(pickle.dumps(work(pickle.loads(packed))))
        worker = threading.current_thread().name
        with self._lock:
            self.tally.add(worker, time.perf_counter() - begun, 0)
        return Done(result, worker)
