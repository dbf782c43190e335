"""Colours where they carry meaning: types, trouble, what passed, null. Nothing is told by colour alone."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

Meaning = Literal["type", "trouble", "warning", "good", "null"]
_CODES: dict[Meaning, str] = {"type": "36", "trouble": "31", "warning": "33", "good": "32", "null": "2"}
"""Of ECMA-48, "select graphic rendition": the colours that every terminal has, in the reader's own shades."""
STYLES: dict[Meaning, str] = {
    "type": "cyan", "trouble": "red", "warning": "yellow", "good": "green", "null": "dim",
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
        return f"\033[{_CODES[meaning]}m{text}\033[0m" if self.is_on and text.strip() else text


PLAIN = Palette()
"""No colours."""
