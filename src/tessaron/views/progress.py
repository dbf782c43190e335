"""A progress bar on standard error, for runs on a terminal."""

from __future__ import annotations

from collections.abc import Mapping
from types import TracebackType
from typing import TYPE_CHECKING

from rich.console import Console

from tessaron.core.base.visible import visible

if TYPE_CHECKING:
    from rich.progress import Progress, TaskID


_WORKERS_SHOWN = 4


class ProgressBar:
    """A context that shows bytes read, their rate and the time left; then how much is written."""

    def __init__(self, console: Console):
        self._console = console
        self._bar: Progress | None = None
        self._task: TaskID | None = None
        self._total = 0

    def __enter__(self) -> ProgressBar:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        if self._bar is not None:
            self._bar.stop()

    def start(self, total_bytes: int | None) -> None:
        """Begin the bar of bytes read; one that is there, of what was read before, goes."""
        if self._bar is not None:
            self._bar.stop()
        self._total = 0
        if self._console.is_terminal:
            self._bar = _bar_on(self._console)
            self._bar.start()
            self._task = self._bar.add_task("reading", total=total_bytes, told="")

    def say(self, text: str) -> None:
        """Write a line above the bar."""
        self._console.print(f"tessaron: {visible(text)}", highlight=False, markup=False, soft_wrap=True)

    def read(self, byte_count: int) -> None:
        """Move the bar on."""
        if self._bar is not None and self._task is not None:
            self._total += byte_count
            self._bar.update(self._task, advance=byte_count)

    def write(self, step: int, steps: int) -> None:
        """Show the second half: the same bytes, now written."""
        if self._bar is not None and self._task is not None:
            if step == 1:
                self._bar.reset(self._task, total=self._total, description="writing")
            self._bar.update(self._task, completed=self._total * step / steps)

    def work(self, tasks: Mapping[str, int]) -> None:
        """Show what each worker has done; of many the first."""
        if self._bar is not None and self._task is not None:
            self._bar.update(self._task, told=told_of_workers(tasks))


def told_of_workers(tasks: Mapping[str, int]) -> str:
    """Return in a few words what each worker has done; of many the first."""
    shown = [f"{name.rpartition('/')[2]} {count:,}" for name, count in sorted(tasks.items())[:_WORKERS_SHOWN]]
    more = len(tasks) - len(shown)
    return "tasks done: " + ", ".join([*shown, *[f"{more:,} more workers"] * bool(more)])


def _bar_on(console: Console) -> Progress:
    """Return a bar; what draws it takes time to load, and only terminals want it."""
    from rich.progress import (
        BarColumn,
        DownloadColumn,
        Progress,
        TextColumn,
        TimeRemainingColumn,
        TransferSpeedColumn,
    )

    return Progress(
        TextColumn("{task.description:<8}"),
        BarColumn(),
        DownloadColumn(binary_units=True),
        TransferSpeedColumn(),
        TimeRemainingColumn(),
        TextColumn("{task.fields[told]}"),
        console=console,
        transient=True,
    )
