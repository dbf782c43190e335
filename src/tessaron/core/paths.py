"""Paths inside a record: tuples of steps, printed as JSONPath (RFC 9535) only when shown."""

from __future__ import annotations

import re
from enum import Enum
from typing import Final


class Each(Enum):
    """The step from an array to its elements, printed `[*]`."""

    ELEMENT = "[*]"


ELEMENT: Final = Each.ELEMENT
Step = str | Each
Path = tuple[Step, ...]
"""Steps from the record down: a member name, or `ELEMENT` for each element of an array."""

_SHORTHAND = re.compile(r"[A-Za-z_\u0080-\U0010ffff][A-Za-z0-9_\u0080-\U0010ffff]*\Z")
_ESCAPES = {"\b": r"\b", "\t": r"\t", "\n": r"\n", "\f": r"\f", "\r": r"\r", "'": r"\'", "\\": r"\\"}


def format_path(path: Path) -> str:
    """Return `path` as JSONPath, e.g. `$.stays[*]['berth no']` (RFC 9535, names escaped as in 2.7)."""
    return "$" + "".join(map(_format_step, path))


def _format_step(step: Step) -> str:
    if isinstance(step, Each):
        return step.value
    if _SHORTHAND.match(step):
        return "." + step
    return "['" + "".join(_escape(character) for character in step) + "']"


def _escape(character: str) -> str:
    if character in _ESCAPES:
        return _ESCAPES[character]
    return f"\\u{ord(character):04x}" if character < " " else character
