"""One run at a time: a lock on a file that says who has it; it goes with the process, however that ends."""

from __future__ import annotations

import json
import os
import socket
import time
from collections.abc import Callable
from contextlib import suppress
from datetime import UTC, datetime
from pathlib import Path
from types import TracebackType
from typing import IO

from tessaron.core.base.errors import TargetError
from tessaron.sinks.lock_owners import shown_age, user_name

_ASKS_EVERY = 0.2


class RunLock:
    """A context in which no other run that takes the same lock is under way.

    Args:
        path: The file; it stays.
        say: Is told when there is somebody else, or was one who did not end well.
        seconds: How long to wait for another run; 0 for not at all.

    Raises:
        TargetError: When the other run does not end, or the file cannot be written.
    """

    def __init__(self, path: Path, say: Callable[[str], None], seconds: float):
        self._path, self._say, self._seconds = path, say, seconds
        self._file: IO[str] | None = None

    def __enter__(self) -> RunLock:
        try:
            self._file = open(self._path, "a+", encoding="utf-8")
        except OSError as error:
            raise TargetError(f"{self._path}: the lock cannot be written: {error.strerror}") from error
        self._wait(self._file)
        self._file.seek(0)
        before = self._file.read()
        if before.strip():
            self._say(f"the last run here ended without a word ({_told(before)}); going on")
        self._write(json.dumps({
            "owner": user_name(), "host": socket.gethostname(), "process": os.getpid(),
            "since": datetime.now(UTC).isoformat(timespec="seconds"),
        }))  # fmt: skip
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        with suppress(OSError):
            self._write("")
        if self._file is not None:
            self._file.close()

    def _wait(self, file: IO[str]) -> None:
        import fcntl

        until = time.monotonic() + self._seconds
        has_said = False
        while True:
            try:
                fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
                return
            except BlockingIOError:
                file.seek(0)
                who = f"another run is under way here ({_told(file.read())})"
            if time.monotonic() >= until:
                file.close()
                raise TargetError(f"{self._path.name}: {who}; try again once it is done")
            if not has_said:
                self._say(f"{who}; waiting until it is done")
                has_said = True
            time.sleep(_ASKS_EVERY)

    def _write(self, text: str) -> None:
        assert self._file is not None
        self._file.seek(0)
        self._file.truncate()
        self._file.write(text)
        self._file.flush()


def lock_of(path: Path) -> Path:
    """Return the file that is locked for a file or folder."""
    return path.with_name(f"{path.name}.lock")


def _told(text: str) -> str:
    """Return who has a lock, in words."""
    try:
        known = json.loads(text)
        age = datetime.now(UTC) - datetime.fromisoformat(known["since"])
        who = f"{known['owner']} on {known['host']}, process {known['process']}"
        return f"{who}, since {shown_age(age.total_seconds())}"
    except (ValueError, KeyError, TypeError):
        return "it does not say whose"
