"""Worker processes: tasks go out, results come back in the order of the tasks."""

from __future__ import annotations

import os
import pickle
from collections import deque
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import partial
from multiprocessing.connection import Connection, Pipe, wait
from types import TracebackType
from typing import Any, cast

from tessaron.core.errors import WorkerError
from tessaron.core.layout import TableSet
from tessaron.core.shape import ShapeNode
from tessaron.core.tables import shift_keys
from tessaron.core.work import Plan, ReadTask, RowsTask, make_rows
from tessaron.mailbox import Mailbox, shared_file, spill_file
from tessaron.processes import ForkedProcess, Process, can_fork, start_process
from tessaron.worker import BOXES, serve, with_fragment

PARALLEL_BYTES = 16 * 1024 * 1024
"""Smaller inputs are read in this process: to start others would take longer."""
_TASKS_AHEAD = 2
"""Tasks per worker that are out or whose results wait for their turn."""
_TRIES = 2


@dataclass(frozen=True, slots=True)
class _Task:
    """A task that is out: its number, and how often it was tried."""

    number: int
    task: Any
    tries: int = 1


@dataclass(eq=False)
class _Worker:
    """A worker process with its mailboxes, used in turn, and the tasks it has, the first being worked on."""

    slot: int
    process: Process
    connection: Connection[Any, Any]
    inboxes: list[Mailbox]
    outboxes: list[Mailbox]
    tasks: deque[_Task] = field(default_factory=deque)
    sent: int = 0
    received: int = 0

    def send(self, task: _Task) -> None:
        letter = self.inboxes[self.sent % BOXES].put(task.task)
        self.sent += 1
        self.tasks.append(task)
        self.connection.send_bytes(pickle.dumps(letter))

    def receive(self) -> tuple[int, Any]:
        letter = pickle.loads(self.connection.recv_bytes())
        result = self.outboxes[self.received % BOXES].get(letter)
        self.received += 1
        return self.tasks.popleft().number, result

    def close(self) -> None:
        self.connection.close()
        self.process.kill()
        self.process.wait()
        for box in (*self.inboxes, *self.outboxes):
            box.close()


@dataclass(eq=False)
class Pool:
    """A context with worker processes, started when there is enough to do.

    Args:
        count: Processes that work, this one included: it does a task whenever the others have theirs.
        sizes: Bytes of each input, None where unknown: workers start when it comes to more than a little.
    """

    count: int
    sizes: Sequence[int | None]
    _workers: list[_Worker] = field(default_factory=list)
    _spills: list[int] = field(default_factory=list)
    _known_bytes: int = 0

    def __enter__(self) -> Pool:
        self._known_bytes = sum(size for size in self.sizes if size is not None)
        if self._is_worth_workers(0):
            self._start_all()
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        for worker in self._workers:
            worker.close()
        for descriptor in self._spills:
            os.close(descriptor)

    def map(self, work: Callable[[Any], Any], tasks: Iterator[Any]) -> Iterator[Any]:
        """Yield `work(task)` for each task, in order.

        Raises:
            WorkerError: When a worker process dies on the same task twice.
        """
        done = 0
        while not self._is_worth_workers(done):
            task = next(tasks, _NO_TASK)
            if task is _NO_TASK:
                return
            yield work(task)
            done += len(task.chunk.data) if isinstance(task, ReadTask) else 0
        yield from self._distribute(work, tasks)

    def _is_worth_workers(self, done: int) -> bool:
        """Say whether other processes shall go on, when this one has done so many bytes."""
        return self.count > 1 and (bool(self._workers) or max(done, self._known_bytes) > PARALLEL_BYTES)

    def map_rows(
        self, tasks: Iterator[RowsTask], record: ShapeNode, layout: TableSet, rows_before: dict[str, int]
    ) -> Iterator[dict[str, Any]]:
        """Yield the rows of each fragment; keys go on from one to the next, and `rows_before` with them."""
        plan = Plan(record, layout)
        schemas = {table.name: table.arrow_schema() for table in layout.tables}
        for packed in self.map(_RowsWork(plan), tasks):
            batches = plan.unpack_rows(packed, schemas)
            yield shift_keys(batches, layout, rows_before)
            for name, batch in batches.items():
                rows_before[name] = rows_before.get(name, 0) + batch.num_rows

    def _distribute(self, work: Callable[[Any], Any], tasks: Iterator[Any]) -> Iterator[Any]:
        head = pickle.dumps(work)
        self._start_all()
        for worker in list(self._workers):
            try:
                worker.connection.send_bytes(head)
            except OSError:
                self._replace(worker, head)
        results: dict[int, Any] = {}
        sent = given = 0
        ended = False
        while not ended or given < sent:
            self._receive_ready(results, head, block=ended and given not in results)
            while not ended and sent - given < _TASKS_AHEAD * self.count:
                task = next(tasks, _NO_TASK)
                if task is _NO_TASK:
                    ended = True
                elif (free := self._least_busy()) is not None:
                    self._send(free, _Task(sent, task), head)
                    sent += 1
                else:
                    results[sent] = work(with_fragment(task, self._spills))
                    sent += 1
                    break
            else:
                if not ended and given not in results:
                    self._receive_ready(results, head, block=True)
            while given in results:
                result = results.pop(given)
                if isinstance(result, BaseException):
                    raise result
                yield result
                given += 1

    def _least_busy(self) -> _Worker | None:
        """Return the worker with the fewest tasks; None if all have as many as they can."""
        least = min(self._workers, key=lambda each: len(each.tasks))
        return least if len(least.tasks) < BOXES else None

    def _receive_ready(self, results: dict[int, Any], head: bytes, block: bool) -> None:
        """Take in the results that have come; wait for one if there is nothing else to do."""
        busy = {worker.connection: worker for worker in self._workers if worker.tasks}
        for connection in wait(list(busy), None if block else 0) if busy else ():
            worker = busy[cast("Connection[Any, Any]", connection)]
            try:
                number, result = worker.receive()
                results[number] = result
            except (EOFError, OSError):
                self._replace(worker, head)

    def _send(self, worker: _Worker, task: _Task, head: bytes) -> None:
        try:
            worker.send(task)
        except OSError:
            self._replace(worker, head)

    def _replace(self, dead: _Worker, head: bytes) -> None:
        """Start a worker for one that died, and give it the same tasks, but not without end."""
        dead.close()
        self._workers.remove(dead)
        tasks = list(dead.tasks)
        if tasks and tasks[0].tries >= _TRIES:
            raise WorkerError(
                f"a worker process died twice on chunk {tasks[0].number + 1} "
                f"(exit status {dead.process.returncode}); give it more memory, or try --workers 1"
            )
        if tasks:
            tasks[0] = replace(tasks[0], tries=tasks[0].tries + 1)
        worker = self._start(dead.slot)
        worker.connection.send_bytes(head)
        for task in tasks:
            self._send(worker, task, head)

    def _start_all(self) -> None:
        while len(self._spills) < self.count:
            self._spills.append(spill_file())
        while len(self._workers) < self.count - 1:
            self._start(len(self._workers))

    def _start(self, slot: int) -> _Worker:
        ours, theirs = Pipe()
        boxes = [Mailbox(shared_file()) for _ in range(2 * BOXES)]
        process: Process
        if can_fork():
            connections = [ours, *(worker.connection for worker in self._workers)]
            process = ForkedProcess.start(
                connections, partial(serve, theirs, boxes[:BOXES], boxes[BOXES:], slot, self._spills)
            )
        else:
            descriptors = [theirs.fileno(), *(box.descriptor for box in boxes), *self._spills]
            process = start_process(slot, descriptors)
        theirs.close()
        worker = _Worker(slot, process, ours, boxes[:BOXES], boxes[BOXES:])
        self._workers.append(worker)
        return worker


_NO_TASK = object()


@dataclass(frozen=True)
class _RowsWork:
    """The second half, with its plan; goes to each worker once."""

    plan: Plan

    def __call__(self, task: RowsTask) -> Mapping[str, Any]:
        return make_rows(task, self.plan)
