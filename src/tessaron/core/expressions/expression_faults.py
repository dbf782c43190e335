"""What is wrong in an expression, and where."""

from __future__ import annotations

from collections.abc import Iterable
from difflib import get_close_matches

from tessaron.core.base.visible import in_quotes


class ExpressionError(ValueError):
    """An expression that cannot be right.

    Attributes:
        reason: Expected, got, what next.
        at: The place of the character, from 0.
        text: The whole expression.
    """

    def __init__(self, reason: str, at: int, text: str = ""):
        super().__init__(reason, at, text)
        self.reason, self.at, self.text = reason, at, text

    def __str__(self) -> str:
        where = f"character {self.at + 1}"
        return (
            f"{self.reason} ({where} of {in_quotes(self.text, self.at)})"
            if self.text
            else f"{self.reason} ({where})"
        )


def nearest(name: str, known: Iterable[str]) -> str:
    """Return the words that offer the nearest of the known names, or some of them."""
    names = list(known)
    folded = {each.casefold(): each for each in reversed(names)}
    near = [folded[each] for each in get_close_matches(name.casefold(), list(folded), 1, 0.6)]
    if near:
        return f"did you mean {near[0]}?"
    if not names:
        return "there are none"
    shown = ", ".join(names[:12]) + (", …" if len(names) > 12 else "")
    return f"there {'is' if len(names) == 1 else 'are'} {shown}"
