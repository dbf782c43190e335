"""Watching: a target is kept up with its sources until that is stopped, and anybody can see how it is."""

from __future__ import annotations

import json
import logging
import os
from collections.abc import Callable, Sequence
from dataclasses import asdict, dataclass, replace
from datetime import UTC, datetime
from pathlib import Path
from threading import Event
from typing import TYPE_CHECKING

from tessaron.core.base.errors import SourceError, TargetError, TessaronError, UsageError
from tessaron.repeat.keeping import KeptUp

if TYPE_CHECKING:
    from tessaron.repeat.growing_export import Grown

LOG = logging.getLogger("tessaron.watch")
_LATE = 3
"""A watch that has not looked for so many rounds, and two minutes, is not healthy."""
_MOST_PAUSE = 600.0
"""So many seconds, at most, lie between two tries where something is out of order."""
_SHORTEST = 0.05


@dataclass(frozen=True, slots=True)
class WatchHealth:
    """How a watch is.

    Attributes:
        state: `idle`, `loading`, `failing` (it tries again), or `stopped`.
        process: Its process.
        since: When it was started, in UTC, as are the others.
        looked: When it last looked for something new; empty before the first time.
        every: Seconds between two looks.
        rounds, loads: How often it has looked, and loaded something.
        sources, records, rejected, aside: What it has loaded, rejected, and put aside, all in all.
        failures: How often in a row something was out of order.
        error: What that was, the last time; empty where all is well.
    """

    state: str
    process: int
    since: str
    looked: str
    every: float
    rounds: int = 0
    loads: int = 0
    sources: int = 0
    records: int = 0
    rejected: int = 0
    aside: int = 0
    failures: int = 0
    error: str = ""

    def fault(self, now: datetime) -> str:
        """Return why the watch is not well, in words; empty if it is."""
        if self.state == "stopped":
            return "it was stopped"
        if self.failures:
            return self.error
        age = (now - datetime.fromisoformat(self.looked or self.since)).total_seconds()
        if self.state != "loading" and age > max(_LATE * self.every, 120):
            return f"it has not looked for {age:,.0f} s"
        return ""


def read_health(path: Path) -> WatchHealth:
    """Return what a health file says.

    Raises:
        SourceError: When it is not there, or is none.
    """
    try:
        return WatchHealth(**json.loads(path.read_text("utf-8")))
    except OSError as error:
        raise SourceError(
            f"{path}: cannot be read: {error.strerror}; is a watch running with --health?"
        ) from error
    except (ValueError, TypeError) as error:
        raise SourceError(f"{path}: is no health file of a watch: {error}") from error


@dataclass(frozen=True, slots=True)
class RunTold:
    """What is told of one run: its number, what it read, and how long it took."""

    run: int
    records: int
    rejected: int
    seconds: float
    sources: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Looked:
    """What a look has brought: which sources were new, and the runs that have taken them in."""

    kept: KeptUp
    runs: tuple[RunTold, ...]

    @classmethod
    def of_loads(cls, kept: KeptUp) -> Looked:
        """Return what was loaded into a database."""
        receipts = [(each.run, each.receipt) for each in kept.loads]
        return cls(kept, tuple(
            RunTold(
                run, told.records, told.rejected, told.seconds, tuple(each.name for each in told.sources)
            )
            for run, told in receipts
        ))  # fmt: skip

    @classmethod
    def of_folder(cls, grown: Grown) -> Looked:
        """Return what was added to a folder."""
        return cls(grown.kept, tuple(
            RunTold(
                run["run"], run["records"], run["rejected"], run["seconds"],
                tuple(each["name"] for each in run["sources"]),
            )
            for run in grown.runs
        ))  # fmt: skip


class StandingWatch:
    """Looks for what is new, again and again.

    Args:
        look: Loads what is new, and returns what that was.
        every: Seconds between two looks.
        health: The file that tells how the watch is; None for none.
        folders: Folders in which a change is noticed at once, where the system tells of it.
        settle: So many seconds after a look that has left files alone comes the next.
    """

    def __init__(
        self,
        look: Callable[[], Looked],
        every: float,
        health: Path | None,
        folders: Sequence[Path] = (),
        settle: float = 0.0,
    ):
        self._settle, self._has_waiting = settle, False
        self._look, self._every, self._file, self._folders = look, every, health, folders
        self._health = WatchHealth("idle", os.getpid(), _now(), "", every)
        self._stop = Event()

    def stop(self) -> None:
        """Let the watch end once it is done with what it is loading."""
        self._stop.set()

    def run(self, rounds: int | None = None) -> WatchHealth:
        """Watch until `stop` is called, or for so many rounds; return how it was.

        Raises:
            UsageError: When something cannot be right, whatever comes.
        """
        LOG.info("watch begins", extra={"every": self._every})
        try:
            while not self._stop.is_set() and self._health.rounds != rounds:
                self._round()
                if self._health.rounds != rounds:
                    self._pause()
        finally:
            self._tell(state="stopped")
            LOG.info("watch ends", extra={"rounds": self._health.rounds, "loads": self._health.loads})
        return self._health

    def _round(self) -> None:
        self._tell(state="loading", looked=_now(), rounds=self._health.rounds + 1)
        try:
            looked = self._look()
        except UsageError:
            raise
        except TessaronError as error:
            failures = self._health.failures + 1
            LOG.error("out of order, it is tried again", extra={"error": str(error), "failures": failures})
            self._tell(state="failing", failures=failures, error=str(error))
            return
        self._take_in(looked)

    def _take_in(self, looked: Looked) -> None:
        known, kept = self._health, looked.kept
        self._has_waiting = bool(kept.waiting)
        for run in looked.runs:
            LOG.info("loaded", extra=asdict(run))
        for name, reason in kept.put_aside.items():
            LOG.warning("put aside", extra={"source": name, "reason": reason})
        for name in kept.changed:
            LOG.warning("changed since it was loaded", extra={"source": name})
        for change in kept.changes:
            LOG.warning("structure has changed", extra={"change": change})
        self._tell(
            state="idle", failures=0, error="", loads=known.loads + len(looked.runs),
            sources=known.sources + kept.new, aside=known.aside + len(kept.put_aside),
            records=known.records + sum(each.records for each in looked.runs),
            rejected=known.rejected + sum(each.rejected for each in looked.runs),
        )  # fmt: skip

    def _pause(self) -> None:
        """Wait for the next look: longer where something is out of order, shorter where something comes."""
        if self._health.failures:
            self._stop.wait(min(_MOST_PAUSE, self._every * 2 ** min(self._health.failures, 8)))
            return
        if self._has_waiting:
            self._stop.wait(min(self._every, self._settle + _SHORTEST))
        elif not (self._folders and self._noticed()):
            self._stop.wait(self._every)

    def _noticed(self) -> bool:
        """Wait until a folder changes, or the time is over; False where nothing can tell of changes."""
        try:
            from watchfiles import watch
        except ImportError:
            return False
        folders = [each for each in self._folders if each.is_dir()]
        if not folders:
            return False
        timeout = max(1, int(self._every * 1_000))
        try:
            for _ in watch(
                *folders, stop_event=self._stop, rust_timeout=timeout, yield_on_timeout=True,
                raise_interrupt=False, step=int(_SHORTEST * 1_000),
            ):  # fmt: skip
                return True
        except OSError as error:
            LOG.warning("changes cannot be noticed, so it looks at times", extra={"error": str(error)})
            return False
        return True

    def _tell(self, **changes: str | int | float) -> None:
        self._health = replace(self._health, **changes)  # type: ignore[arg-type]
        if self._file is None:
            return
        aside = self._file.with_name(f".{self._file.name}.part")
        try:
            aside.write_text(json.dumps(asdict(self._health), indent=2) + "\n", "utf-8")
            os.replace(aside, self._file)
        except OSError as error:
            raise TargetError(f"{self._file}: cannot be written: {error.strerror}") from error


def _now() -> str:
    return datetime.now(UTC).isoformat(timespec="seconds")
