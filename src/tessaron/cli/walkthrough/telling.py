"""How the steps of the demo are told: each in short, one with all that it prints, or all of them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

from rich.console import Console
from rich.table import Table

from tessaron.views.terminal import show

_LONGEST_BRIEF = 5


@dataclass
class Telling:
    """Tells steps as they are done.

    Attributes:
        screen: Where.
        command: How the user calls Tessaron, for the lines to paste.
        is_whole: Whether steps are told with all that they print.
        only: The steps that are told, whole; empty for all.
        pause: Is called behind each step that is told whole; says whether to go on telling.
    """

    screen: Console
    command: str = "tessaron"
    is_whole: bool = False
    only: frozenset[int] = frozenset()
    pause: Callable[[], bool] = lambda: True
    _is_silent: bool = field(default=False, init=False)

    def step(
        self,
        number: int,
        title: str,
        words: Sequence[str] = (),
        typed: Sequence[str] = (),
        parts: Sequence[Table | str] = (),
        brief: Sequence[str] = (),
    ) -> None:
        """Tell one step.

        Args:
            number: Its number.
            title: What it is about, in one line.
            words: More about it, for the whole form.
            typed: The lines that were typed, as if after the command's name.
            parts: All that it prints.
            brief: What of that is told in short.
        """
        if self._is_silent or (self.only and number not in self.only):
            return
        lines = [f"   {self.command} {line}" for line in typed]
        if not (self.is_whole or self.only):
            told = [f"   → {line}" for line in brief[:_LONGEST_BRIEF]]
            show(self.screen, f"{number}. {title}", *lines, *told, "")
            return
        show(
            self.screen,
            f"{number}. {title}",
            *(f"   {line}" for line in words),
            *(["", *lines] if lines else []),
            *(["", *parts] if parts else []),
            "",
        )
        self._is_silent = not self.pause()

    def end(self, lines: Sequence[str]) -> None:
        """Tell what can be tried next; where only one step was asked for, nothing."""
        if not self.only and not self._is_silent:
            show(self.screen, *lines)
