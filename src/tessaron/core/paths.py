"""Paths inside a record: tuples of steps, printed as JSONPath (RFC 9535) only when shown."""

from __future__ import annotations

import re
from enum import Enum
from typing import Final


class Each(Enum):
    """The steps that open a level: to each element of an array, to each member of a dictionary."""

    ELEMENT = "[*]"
    ENTRY = ".*"


class Origin(Enum):
    """What is known of a row besides its values; the last step of the path of such a column."""

    KEY = "key"
    """The name of the member, for a row that is a member of a dictionary."""
    FILE = "origin_file"
    RECORD = "origin_record"
    LINE = "origin_line"
    DOCUMENT = "document_key"
    """The number of the document, from 1, for records inside an envelope."""
    WITHIN = "within_key"
    """The row of the same table it stands in, for a row of a structure that contains itself."""
    THROUGH = "through_key"
    """The row of the table between, where that structure contains itself through another array."""
    WAY = "within_path"
    """The way from the row it stands in, where such a structure contains itself in several places."""
    CONTENT = "content"
    """The digest of a record's text."""
    JSON = "json"
    """All that stands at a path, as JSON text."""
    DEPTH = "depth"
    """How deep a row of a structure that contains itself stands in it, from 1."""


ELEMENT: Final = Each.ELEMENT
ENTRY: Final = Each.ENTRY
Step = str | Each | Origin
Path = tuple[Step, ...]
"""Steps from the record down: a member name, `ELEMENT`, `ENTRY`, or at the end an `Origin`."""
Location = tuple[str | int, ...]
"""The way to one value: names of members and indices of elements, from 0."""

_STEPS_SHOWN = 100
_SHORTHAND = re.compile(r"[^\x00-@\[-^`{-\x7f][^\x00-/:-@\[-^`{-\x7f]*\Z")
_PLAIN = re.compile(r"[^\x00-\x1f'\\]*\Z")
_ESCAPES = {"\b": r"\b", "\t": r"\t", "\n": r"\n", "\f": r"\f", "\r": r"\r", "'": r"\'", "\\": r"\\"}


def format_path(path: Path) -> str:
    """Return `path` as JSONPath, e.g. `$.stays[*]['berth no']` (RFC 9535, names escaped as in 2.7).

    What is no value of the document is named before it: `key of $.by_day.*`.
    """
    if len(path) > _STEPS_SHOWN:
        middle = len(path) - _STEPS_SHOWN + 1
        return f"{format_path(path[: _STEPS_SHOWN - 1])}…({middle:,} more steps)"
    if path and isinstance(path[-1], Origin):
        return f"{path[-1].value} of {format_path(path[:-1])}"
    return "$" + "".join(map(_format_step, path))


def _format_step(step: Step) -> str:
    if not isinstance(step, str):
        return str(step.value)
    if _SHORTHAND.match(step):
        return "." + step
    return quote_name(step)


def format_location(location: Location) -> str:
    """Return a normalized path, e.g. `$['stays'][0]['berth no']` (RFC 9535 section 2.7)."""
    return "$" + "".join(f"[{step}]" if isinstance(step, int) else quote_name(step) for step in location)


def quote_name(name: str) -> str:
    """Return the step to a member as a normalized path spells it, e.g. `['berth no']`."""
    if _PLAIN.match(name):
        return f"['{name}']"
    return "['" + "".join(map(_escape, name)) + "']"


def _escape(character: str) -> str:
    if character in _ESCAPES:
        return _ESCAPES[character]
    return f"\\u{ord(character):04x}" if character < " " else character
