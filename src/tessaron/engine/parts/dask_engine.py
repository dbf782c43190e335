"""Tasks on a cluster of Dask distributed: futures go to its scheduler, which hands them to workers.

A worker that dies loses what it was doing and what it kept; the scheduler gives its tasks to others, which
make again what they need. Every task is submitted under a key of its own, so that none is taken for another.
"""

from __future__ import annotations

import itertools
import logging
import secrets
import time
from collections import deque
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import CancelledError
from contextlib import ExitStack, contextmanager, suppress
from dataclasses import dataclass
from functools import partial
from typing import Any

from tessaron._version import __version__
from tessaron.core.base.errors import SourceError, TessaronError, UsageError
from tessaron.engine.parts.kept_parts import forget_run
from tessaron.engine.parts.local_workers import LocalWorkers
from tessaron.engine.parts.process_memory import peak_bytes
from tessaron.engine.parts.task_engine import Done, EngineTally, Result, Task

_MERGED_AT_ONCE, _GROUPS_OF_EACH = 32, 4
_AHEAD_OF_EACH, _AHEAD = 8, 8
"""Tasks under way, or done and waiting for their turn: so many for each worker, and so many more."""
_CONNECT_SECONDS, _WORKER_SECONDS, _LOOK_SECONDS = 10, 60, 10
_KILLED = 3
"""After so many workers died of one task it is taken to be its fault."""


class DaskEngine:
    """Runs tasks on a cluster.

    Args:
        address: Of the scheduler.
        local_count: Instead: so many processes of this machine, begun for the run; 0 for none.
    """

    def __init__(self, address: str, local_count: int = 0):
        self.name, self.worker_count, self.tally = address, local_count, EngineTally()
        self._local_count = local_count
        self._stack = ExitStack()
        self._numbers = itertools.count()
        self._token = secrets.token_hex(6)

    def __enter__(self) -> DaskEngine:
        try:
            self._open()
        except BaseException:
            self._stack.close()
            raise
        return self

    def __exit__(self, *error: object) -> None:
        with suppress(OSError, TimeoutError):
            self._stack.close()

    def _open(self) -> None:
        try:
            from distributed import Client
        except ImportError as error:
            raise UsageError(f"a cluster needs pip install 'tessaron[dask]' ({error})") from error
        self._stack.enter_context(_quiet())
        where = self.name
        if self._local_count:
            where = self._stack.enter_context(LocalWorkers(self._local_count)).address
        try:
            client: Any = Client(where, timeout=_CONNECT_SECONDS, set_as_default=False)  # type: ignore[no-untyped-call]
        except (OSError, TimeoutError) as error:
            said = "no scheduler answers; is it running, and does its port let this host in?"
            raise SourceError(f"{self.name}: {said}") from error
        self._client = self._stack.enter_context(client)
        try:
            self._client.wait_for_workers(max(self._local_count, 1), timeout=_WORKER_SECONDS)
        except TimeoutError as error:
            raise SourceError(f"{self.name}: has no workers; start some, then try again") from error
        self._check_versions()

    def _check_versions(self) -> None:
        found: dict[str, Any] = self._client.run(_version, on_error="return")
        self.worker_count = len(found)
        for worker, version in found.items():
            if version != __version__:
                has = f"has Tessaron {version}" if isinstance(version, str) else f"lacks Tessaron ({version})"
                raise UsageError(f"{self.name}: the worker {worker} {has}; install {__version__} there")

    def map(
        self, work: Callable[[Task], Result], tasks: Iterator[Task], is_urgent: bool = False
    ) -> Iterator[Done[Result]]:
        """Yield what becomes of each task, in order; see `TaskEngine`."""
        waiting: deque[_Sent] = deque()
        most = _AHEAD_OF_EACH * self.worker_count + _AHEAD
        try:
            for task in tasks:
                waiting.append(self._submit(_worked, work, task, is_urgent))
                # What is done is handed on at once, so that what depends on it can begin.
                while waiting and (len(waiting) >= most or waiting[0].future.done()):
                    yield self._taken(waiting.popleft())
            while waiting:
                yield self._taken(waiting.popleft())
        finally:
            if waiting:
                with suppress(Exception):
                    self._client.cancel([sent.future for sent in waiting], force=True)

    def fold(
        self,
        work: Callable[[Task], Result],
        merge: Callable[[Sequence[Result]], Result],
        tasks: Sequence[Task],
    ) -> Result:
        """Return what becomes of all tasks, merged as a tree; see `TaskEngine`."""
        result: Result = self._result(self._folded(work, merge, tasks))
        return result

    def _folded(self, work: Any, merge: Any, tasks: Sequence[Any], is_bound: bool = True) -> _Sent:
        """Send tasks, and those that merge what becomes of them; each where what it needs is, if so bound."""
        groups = list(self._by_worker(tasks))
        futures = [self._submit(_merged, (work, merge), each, True, is_bound).future for each in groups]
        while len(futures) > 1:
            several = [futures[at : at + _MERGED_AT_ONCE] for at in range(0, len(futures), _MERGED_AT_ONCE)]
            with self._told():
                futures = [
                    group[0] if len(group) == 1
                    else self._client.submit(merge, group, key=self._key(), pure=False, priority=20)
                    for group in several
                ]  # fmt: skip
        nears = frozenset(each.near for each in groups if each.near and is_bound)
        return _Sent(futures[0], nears, lambda: self._folded(work, merge, tasks, is_bound=False))

    def _by_worker(self, tasks: Sequence[Any]) -> Iterator[_Group]:
        """Yield tasks in groups that one worker does and merges, so that little travels."""
        most = max(1, min(_MERGED_AT_ONCE, len(tasks) // (_GROUPS_OF_EACH * self.worker_count)))
        found: dict[str, list[Any]] = {}
        for task in tasks:
            near = getattr(task, "near", "")
            group = found.setdefault(near, [])
            group.append(task)
            if len(group) == most:
                yield _Group(found.pop(near))
        yield from map(_Group, found.values())

    def forget(self, token: str) -> None:
        """Let workers give up what they keep of a run."""
        with suppress(Exception):
            self._client.run(forget_run, token, on_error="ignore")

    def _key(self) -> str:
        return f"tessaron-{self._token}-{next(self._numbers)}"

    def _submit(self, how: Any, work: Any, task: Any, is_urgent: bool, is_bound: bool = True) -> _Sent:
        near = getattr(task, "near", "") if is_bound else ""
        with self._told():
            future = self._client.submit(
                how, work, task, key=self._key(), pure=False, priority=10 if is_urgent else 0,
                workers=near or None, allow_other_workers=bool(near), retries=0,
            )  # fmt: skip
        again = partial(self._submit, how, work, task, is_urgent, is_bound=False)
        return _Sent(future, frozenset((near,)) if near else frozenset(), again)

    def _taken(self, sent: _Sent) -> Done[Any]:
        result, worker, seconds, peak_bytes = self._result(sent)
        self.tally.add(worker, seconds, peak_bytes)
        return Done(result, worker)

    def _result(self, sent: _Sent) -> Any:
        """Wait for a result, as long as there are workers."""
        alone_since: float | None = None
        while True:
            with self._told():
                try:
                    return sent.future.result(timeout=_LOOK_SECONDS)
                except TimeoutError:
                    # Of the wait, unless the task itself has ended so.
                    if sent.future.status == "error":
                        raise
                except OSError as error:
                    if isinstance(error, TessaronError) or sent.future.status != "error":
                        raise
                    raise SourceError(f"{self.name}: a task failed at its worker: {error}") from error
                workers = self._client.nthreads()
            now = time.monotonic()
            alone_since = None if workers else alone_since or now
            if alone_since is not None and now - alone_since > _WORKER_SECONDS:
                raise SourceError(
                    f"{self.name}: all workers are gone, and none has come for {_WORKER_SECONDS} seconds; "
                    "nothing was written; begin again once there are some"
                )
            if workers and not sent.nears <= workers.keys():
                # The scheduler may wait for a worker that had what is needed, also where others would do.
                sent = sent.again()

    @contextmanager
    def _told(self) -> Iterator[None]:
        """Turn what goes wrong with the cluster itself into an error that says so."""
        from distributed.client import FutureCancelledError
        from distributed.scheduler import KilledWorker

        try:
            yield
        except TessaronError:
            raise
        except KilledWorker as error:
            raise SourceError(
                f"{self.name}: workers died {_KILLED} times of one task, most likely for want of memory; "
                "bound it with --memory, or give workers more"
            ) from error
        except (FutureCancelledError, CancelledError, OSError, TimeoutError) as error:
            raise SourceError(
                f"{self.name}: the scheduler is gone ({type(error).__name__}); nothing was written; begin "
                "again once it runs"
            ) from error


def _version() -> str:
    return __version__


def _worked(work: Callable[[Any], Any], task: Any) -> tuple[Any, str, float, int]:
    """Do a task at a worker; return its result, who did it, the seconds, and the most memory so far."""
    from distributed import get_worker

    begun = time.perf_counter()
    result = work(task)
    return result, get_worker().address, time.perf_counter() - begun, peak_bytes()


@dataclass(frozen=True, slots=True)
class _Sent:
    """A task on its way.

    Attributes:
        future: What stands for its result.
        nears: The workers that it, and what it waits for, were to go to.
        again: Sends it once more, to any worker.
    """

    future: Any
    nears: frozenset[str]
    again: Callable[[], _Sent]


@dataclass(frozen=True, slots=True)
class _Group:
    """Tasks that one worker does together."""

    tasks: list[Any]

    @property
    def near(self) -> str:
        """The worker that has what they need."""
        return str(getattr(self.tasks[0], "near", ""))


def _merged(how: tuple[Callable[[Any], Any], Callable[[Sequence[Any]], Any]], group: _Group) -> Any:
    """Do tasks at a worker, and merge what becomes of them."""
    work, merge = how
    return merge([work(task) for task in group.tasks])


@contextmanager
def _quiet() -> Iterator[None]:
    """Keep what the cluster's own log would say: what matters of it is told as errors are."""
    names = ["asyncio", *(name for name in logging.root.manager.loggerDict if name.startswith("distributed"))]
    before = {name: logging.getLogger(name).level for name in names}
    for name in names:
        logging.getLogger(name).setLevel(logging.CRITICAL + 1)
    try:
        yield
    finally:
        for name, level in before.items():
            logging.getLogger(name).setLevel(level)
