"""How far a run is, in a notebook: bytes, rate and the time left, on one line that moves."""

from __future__ import annotations

import time
from collections.abc import Mapping
from html import escape
from typing import Any

from tessaron.core.base.errors import UsageError
from tessaron.core.base.visible import visible
from tessaron.views.progress import told_of_workers

_LEAST_SECONDS = 0.25
"""So often, at most, the line is drawn anew."""


class NotebookProgress:
    """Shows how far a run is; for the argument `progress` of functions, one for each call.

    Raises:
        UsageError: When there is no IPython.
    """

    def __init__(self) -> None:
        try:
            from IPython import display
        except ImportError as error:
            raise UsageError("NotebookProgress is for notebooks: IPython is not installed") from error
        self._shows: Any = display
        self._handle: Any = self._shows.display(self._shows.HTML(""), display_id=True)
        self._begun = self._drawn = time.monotonic()
        self._total: int | None = None
        self._read = 0
        self._workers = ""

    def start(self, total_bytes: int | None) -> None:
        """Begin with so many bytes to be read; None where nobody knows."""
        self._total, self._read, self._begun = total_bytes, 0, time.monotonic()
        self._draw("reading", 0.0 if total_bytes else None)

    def say(self, text: str) -> None:
        """Print a line."""
        print(visible(text))

    def read(self, byte_count: int) -> None:
        """Move on by bytes that were read."""
        self._read += byte_count
        if time.monotonic() - self._drawn >= _LEAST_SECONDS or self._read == self._total:
            self._draw("reading", self._read / self._total if self._total else None)

    def write(self, step: int, steps: int) -> None:
        """Show the second half, in which what was read is written."""
        if step == steps or time.monotonic() - self._drawn >= _LEAST_SECONDS:
            self._draw("writing", step / steps)

    def work(self, tasks: Mapping[str, int]) -> None:
        """Keep what each worker has done, to be shown with the next step."""
        self._workers = told_of_workers(tasks)

    def _draw(self, what: str, share: float | None) -> None:
        self._drawn = now = time.monotonic()
        seconds = max(now - self._begun, 0.001)
        told = f"{self._read / 1e6:,.1f} MB, {self._read / seconds / 1e6:,.1f} MB a second"
        told += f"; {self._workers}" if self._workers else ""
        if share and share < 1:
            told += f", {seconds * (1 - share) / share:,.0f} s left"
        bar = (
            "" if share is None else f'<progress value="{share:.3f}" max="1" aria-label="{what}"></progress> '
        )
        if self._handle is not None:
            self._handle.update(self._shows.HTML(f"<div>{what} {bar}{escape(told)}</div>"))
