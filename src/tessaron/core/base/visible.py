"""Texts from outside as they may be shown: escapes for what a terminal would act on, parts of long ones."""

from __future__ import annotations

import re

_UNSEEN = re.compile("[\x00-\x08\x0b-\x1f\x7f-\x9f\u200e\u200f\u202a-\u202e\u2066-\u2069\ufeff]")
"""Control characters but tab and line feed (C0, DEL, C1), and those that turn the direction of writing."""


def visible(text: str) -> str:
    """Return a text in which control characters and turns of direction are escapes, as JSON writes them."""
    return _UNSEEN.sub(_escape, text) if _UNSEEN.search(text) else text


_QUOTED = 120
"""The most characters of a value that a message quotes."""


def clipped(text: str, most: int = _QUOTED) -> str:
    """Return a text that a message quotes: of a long one the beginning, the end, and how much is left out."""
    if len(text) <= most:
        return text
    return f"{text[: most * 2 // 3]}…({len(text) - most:,} more characters)…{text[-(most // 3) :]}"


def in_quotes(value: object, at: int | None = None) -> str:
    """Return a value as a message quotes it: with its quotes, and of a long one only a part.

    Args:
        value: A text, or anything that is shown as in Python.
        at: The character of a text, from 0, around which the part is taken; else its beginning and end.
    """
    if at is None or not isinstance(value, str) or len(value) <= _QUOTED:
        return clipped(repr(value), _QUOTED)
    start = max(0, min(at - _QUOTED // 2, len(value) - _QUOTED))
    end = start + _QUOTED
    return "…" * (start > 0) + repr(value[start:end]) + "…" * (end < len(value))


def _escape(found: re.Match[str]) -> str:
    return f"\\u{ord(found.group()):04x}"
