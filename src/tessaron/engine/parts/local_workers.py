"""A cluster on this machine, for one run: a scheduler and workers as processes of their own.

They are begun by their own commands, so that scripts need no guard, and end with the run; also where the
process that began them is killed, as a scheduler without work, and workers without one, stop by themselves.
"""

from __future__ import annotations

import json
import os
import subprocess
import sys
import tempfile
import time
from contextlib import suppress
from pathlib import Path
from typing import Any

from tessaron.core.base.errors import SourceError

_START_SECONDS = 60
_IDLE_SECONDS, _LOST_SECONDS = 300, 30
_END_SECONDS, _SOON_SECONDS = 5, 0.5

_ALLOCATION = {
    "DASK_DISTRIBUTED__NANNY__PRE_SPAWN_ENVIRON__MALLOC_TRIM_THRESHOLD_": str(128 * 1024 * 1024),
    "MALLOC_MMAP_THRESHOLD_": str(32 * 1024 * 1024),
    "MALLOC_TOP_PAD_": str(16 * 1024 * 1024),
}
"""Workers of Dask give memory back from 64 KiB on; for arrays of megabytes that costs a third of the time."""


class LocalWorkers:
    """A context with a scheduler and workers.

    Args:
        count: Workers, with one thread each.

    Attributes:
        address: Of the scheduler.
    """

    def __init__(self, count: int):
        self._count = count
        self._processes: list[subprocess.Popen[bytes]] = []
        self.address = ""

    def __enter__(self) -> LocalWorkers:
        self._folder = tempfile.TemporaryDirectory(prefix="tessaron-")
        try:
            self._start()
        except BaseException:
            self.__exit__()
            raise
        return self

    def __exit__(self, *error: object) -> None:
        # Workers first: they would look for their scheduler, which has nothing to save.
        for process in reversed(self._processes):
            process.terminate()
            try:
                process.wait(_END_SECONDS if process is not self._processes[0] else _SOON_SECONDS)
            except subprocess.TimeoutExpired:
                process.kill()
                process.wait()
        with suppress(OSError):
            self._folder.cleanup()

    def _start(self) -> None:
        file = Path(self._folder.name) / "scheduler.json"
        self._run(
            "scheduler", "--host", "127.0.0.1", "--port", "0", "--no-dashboard", "--no-show",
            "--idle-timeout", f"{_IDLE_SECONDS} seconds", "--scheduler-file", str(file),
        )  # fmt: skip
        self.address = self._address_in(file)
        self._run(
            "worker", self.address, "--nworkers", str(self._count), "--nthreads", "1", "--host", "127.0.0.1",
            "--no-dashboard", "--memory-limit", "0", "--death-timeout", str(_LOST_SECONDS),
            "--local-directory", self._folder.name,
        )  # fmt: skip

    def _run(self, *arguments: str) -> None:
        log: Any = open(Path(self._folder.name) / f"{arguments[0]}.log", "wb")  # noqa: SIM115
        with log:
            self._processes.append(
                subprocess.Popen(
                    [sys.executable, "-m", "dask", *arguments],
                    stdin=subprocess.DEVNULL, stdout=log, stderr=log, cwd=self._folder.name,
                    env={**os.environ, **_ALLOCATION},
                )
            )  # fmt: skip

    def _address_in(self, file: Path) -> str:
        """Return the address that the scheduler writes into a file once it listens."""
        until = time.monotonic() + _START_SECONDS
        while time.monotonic() < until and self._processes[0].poll() is None:
            with suppress(OSError, ValueError, KeyError):
                return str(json.loads(file.read_text("utf-8"))["address"])
            time.sleep(0.02)
        log = (Path(self._folder.name) / "scheduler.log").read_text("utf-8", "replace").strip()
        raise SourceError(
            f"the scheduler on this machine did not begin: {log.splitlines()[-1:] or 'no reason'}"
        )
