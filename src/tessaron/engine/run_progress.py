"""How a run tells how far it is."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Protocol


class Progress(Protocol):
    """Is told how far a run is; see `views.progress` for one that draws a bar."""

    def start(self, total_bytes: int | None) -> None:
        """Reading begins; `total_bytes` is None when a source does not tell its size."""

    def say(self, text: str) -> None:
        """Something is to be known before the run goes on."""

    def read(self, byte_count: int) -> None:
        """So many more bytes were read."""

    def write(self, step: int, steps: int) -> None:
        """Of `steps` chunks, `step` were turned into rows."""

    def work(self, tasks: Mapping[str, int]) -> None:
        """On a cluster: so many tasks has each worker done, by its name."""


class NoProgress:
    """Is told, and shows nothing."""

    def start(self, total_bytes: int | None) -> None:
        """Do nothing."""

    def say(self, text: str) -> None:
        """Do nothing."""

    def read(self, byte_count: int) -> None:
        """Do nothing."""

    def write(self, step: int, steps: int) -> None:
        """Do nothing."""

    def work(self, tasks: Mapping[str, int]) -> None:
        """Do nothing."""
