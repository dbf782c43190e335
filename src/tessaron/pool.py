"""Worker processes: tasks go out, results come back in the order of the tasks."""

from __future__ import annotations

import pickle
import subprocess
import sys
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from multiprocessing.connection import Connection, Pipe, wait
from types import TracebackType
from typing import Any

from tessaron.core.errors import WorkerError
from tessaron.core.layout import Layout
from tessaron.core.shape import ShapeNode
from tessaron.core.tables import shift_keys
from tessaron.core.work import Plan, RowsTask, make_rows

PARALLEL_BYTES = 16 * 1024 * 1024
"""Smaller inputs are read in this process: to start others would take longer."""
_TASKS_AHEAD = 2
"""Tasks per worker that are out or whose results wait for their turn."""
_TRIES = 2


@dataclass(eq=False)
class _Worker:
    process: subprocess.Popen[bytes]
    connection: Connection[Any, Any]
    number: int = -1
    message: bytes = b""
    tries: int = 0


@dataclass(eq=False)
class Pool:
    """A context with worker processes, started when the first task comes.

    Args:
        count: Processes; with one, everything happens in this process.
        sizes: Bytes of each input, None where unknown: small inputs need no workers.
    """

    count: int
    sizes: Sequence[int | None]
    _workers: list[_Worker] = field(default_factory=list)
    _idle: list[_Worker] = field(default_factory=list)

    def __enter__(self) -> Pool:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        for worker in self._workers:
            worker.connection.close()
            worker.process.kill()
            worker.process.wait()

    @property
    def is_parallel(self) -> bool:
        """Whether other processes do the work."""
        known = sum(size for size in self.sizes if size is not None)
        return self.count > 1 and (None in self.sizes or known > PARALLEL_BYTES)

    def map(self, work: Callable[[Any], Any], tasks: Iterator[Any]) -> Iterator[Any]:
        """Yield `work(task)` for each task, in order.

        Raises:
            WorkerError: When a worker process dies on the same task twice.
        """
        if not self.is_parallel:
            yield from map(work, tasks)
            return
        yield from self._spread(work, tasks)

    def map_rows(
        self, tasks: Iterator[RowsTask], record: ShapeNode, layout: Layout, rows_before: dict[str, int]
    ) -> Iterator[dict[str, Any]]:
        """Yield the rows of each fragment; keys go on from one to the next, and `rows_before` with them."""
        plan = Plan(record, layout)
        schemas = {table.name: table.arrow_schema() for table in layout.tables}
        for packed in self.map(_RowsWork(plan), tasks):
            batches = plan.unpack_rows(packed, schemas)
            yield shift_keys(batches, layout, rows_before)
            for name, batch in batches.items():
                rows_before[name] = rows_before.get(name, 0) + batch.num_rows

    def _spread(self, work: Callable[[Any], Any], tasks: Iterator[Any]) -> Iterator[Any]:
        head = pickle.dumps(work)
        while len(self._workers) < self.count:
            self._idle.append(self._start())
        for worker in self._workers:
            worker.connection.send_bytes(head)
        results: dict[int, Any] = {}
        sent = given = 0
        ended = False
        while not ended or given < sent:
            while not ended and self._idle and sent - given < _TASKS_AHEAD * self.count:
                task = next(tasks, _NO_TASK)
                if task is _NO_TASK:
                    ended = True
                    break
                self._send(self._idle.pop(), sent, pickle.dumps(task, protocol=5), 1, head)
                sent += 1
            while given in results:
                yield _opened(results.pop(given))
                given += 1
            busy = [worker.connection for worker in self._workers if worker.number >= 0]
            if busy and (ended or not self._idle or sent - given >= _TASKS_AHEAD * self.count):
                for connection in wait(busy):
                    self._receive(connection, results, head)

    def _receive(self, connection: object, results: dict[int, Any], head: bytes) -> None:
        worker = next(each for each in self._workers if each.connection is connection)
        try:
            results[worker.number] = worker.connection.recv_bytes()
        except (EOFError, OSError):
            self._replace(worker, head)
            return
        worker.number = -1
        self._idle.append(worker)

    def _replace(self, dead: _Worker, head: bytes) -> None:
        """Start a worker for one that died, and give it the same task, but not without end."""
        dead.connection.close()
        dead.process.wait()
        self._workers.remove(dead)
        if dead.tries >= _TRIES:
            raise WorkerError(
                f"a worker process died twice on chunk {dead.number + 1} "
                f"(exit status {dead.process.returncode}); give it more memory, or try --workers 1"
            )
        worker = self._start()
        worker.connection.send_bytes(head)
        self._send(worker, dead.number, dead.message, dead.tries + 1, head)

    def _send(self, worker: _Worker, number: int, message: bytes, tries: int, head: bytes) -> None:
        worker.number, worker.message, worker.tries = number, message, tries
        try:
            worker.connection.send_bytes(message)
        except OSError:
            self._replace(worker, head)

    def _start(self) -> _Worker:
        ours, theirs = Pipe()
        process = subprocess.Popen(
            [sys.executable, "-m", "tessaron.worker", str(theirs.fileno())],
            pass_fds=[theirs.fileno()],
            stdin=subprocess.DEVNULL,
            stdout=subprocess.DEVNULL,
        )
        theirs.close()
        worker = _Worker(process, ours)
        self._workers.append(worker)
        return worker


_NO_TASK = object()


@dataclass(frozen=True)
class _RowsWork:
    """The second half, with its plan; goes to each worker once."""

    plan: Plan

    def __call__(self, task: RowsTask) -> Mapping[str, Any]:
        return make_rows(task, self.plan)


def _opened(message: bytes) -> Any:
    result = pickle.loads(message)
    if isinstance(result, BaseException):
        raise result
    return result
