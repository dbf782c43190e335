"""Starting worker processes: forked where that is safe, as it is quicker and shares memory; else anew."""

from __future__ import annotations

import gc
import os
import signal
import subprocess
import sys
from collections.abc import Callable, Sequence
from multiprocessing.connection import Connection
from pathlib import Path
from typing import Any, Protocol

_FRUGAL = {"ARROW_DEFAULT_MEMORY_POOL": "system", "OPENBLAS_NUM_THREADS": "1"}
"""Lets a worker give freed memory back at once, and start no threads it has no use for."""
_THREADS = Path("/proc/self/task")


class Process(Protocol):
    """A process that was started."""

    @property
    def returncode(self) -> int | Any:
        """Its exit status, negative for a signal; None while it runs."""

    def kill(self) -> None:
        """End it at once."""

    def wait(self) -> int:
        """Wait for its end and return its exit status."""


def can_fork() -> bool:
    """Say whether this process may be forked: on Linux, and only while it has a single thread.

    A thread may hold a lock that nobody could open in the other process.
    """
    try:
        return len(list(_THREADS.iterdir())) == 1
    except OSError:
        return False


class ForkedProcess:
    """A copy of this process that does one thing and ends."""

    def __init__(self, pid: int):
        self._pid = pid
        self.returncode: int | None = None

    @classmethod
    def start(cls, not_its_own: Sequence[Connection[Any, Any]], work: Callable[[], None]) -> ForkedProcess:
        """Start `work` in a copy of this process.

        Args:
            not_its_own: The ends of connections that only this process may keep open.
            work: What to do there.
        """
        sys.stdout.flush()
        sys.stderr.flush()
        pid = os.fork()
        if pid:
            return cls(pid)
        status = 1
        try:
            _settle_in(not_its_own)
            work()
            status = 0
        finally:
            os._exit(status)

    def kill(self) -> None:
        """End it at once."""
        if self.returncode is None:
            os.kill(self._pid, signal.SIGKILL)

    def wait(self) -> int:
        """Wait for its end and return its exit status."""
        if self.returncode is None:
            _, status = os.waitpid(self._pid, 0)
            self.returncode = os.waitstatus_to_exitcode(status)
        return self.returncode


def _settle_in(not_its_own: Sequence[Connection[Any, Any]]) -> None:
    # The parent decides when to stop; the terminal's Ctrl-C reaches all processes at once.
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    signal.signal(signal.SIGTERM, signal.SIG_DFL)
    for connection in not_its_own:
        connection.close()
    # What is here already is shared with the parent until somebody writes to it, as a collector would.
    gc.freeze()


def start_process(slot: int, descriptors: Sequence[int]) -> subprocess.Popen[bytes]:
    """Start a new interpreter that works as `tessaron.worker`; it keeps the descriptors open."""
    return subprocess.Popen(
        [sys.executable, "-m", "tessaron.worker", str(slot), *map(str, descriptors)],
        pass_fds=descriptors,
        env={**os.environ, **_FRUGAL, "PYTHONPATH": os.pathsep.join(filter(None, sys.path))},
        stdin=subprocess.DEVNULL,
        stdout=subprocess.DEVNULL,
    )
