"""Texts from outside as they may be shown: what a terminal would act on is written as an escape."""

from __future__ import annotations

import re

_UNSEEN = re.compile("[\x00-\x08\x0b-\x1f\x7f-\x9f\u200e\u200f\u202a-\u202e\u2066-\u2069\ufeff]")
"""Control characters but tab and line feed (C0, DEL, C1), and those that turn the direction of writing."""


def visible(text: str) -> str:
    """Return a text in which control characters and turns of direction are escapes, as JSON writes them."""
    return _UNSEEN.sub(_escape, text) if _UNSEEN.search(text) else text


def _escape(found: re.Match[str]) -> str:
    return f"\\u{ord(found.group()):04x}"
