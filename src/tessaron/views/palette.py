"""Colours where they carry meaning: types, trouble, what passed, null. Nothing is told by colour alone."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

Meaning = Literal["type", "trouble", "warning", "good", "null"]
_COLOURS: dict[Meaning, int] = {"type": 31, "trouble": 160, "warning": 164, "good": 29}
"""Of the 256 of terminals: those that can be read on white as on black, also as the nearest of 16."""
STYLES: dict[Meaning, str] = {
    **{meaning: f"color({number})" for meaning, number in _COLOURS.items()}, "null": "dim",
}  # fmt: skip
"""The same as Rich calls them."""


@dataclass(frozen=True, slots=True)
class Palette:
    """Paints texts, or leaves them as they are.

    Attributes:
        is_on: Whether there is a terminal that wants colours.
    """

    is_on: bool = False

    def paint(self, meaning: Meaning, text: str) -> str:
        """Return a text in the colour of its meaning."""
        if not self.is_on or not text.strip():
            return text
        code = f"38;5;{_COLOURS[meaning]}" if meaning in _COLOURS else "2"
        return f"\033[{code}m{text}\033[0m"


PLAIN = Palette()
"""No colours."""
