"""Names in braces in the texts of a request, and what is filled in for them.

`{name}` and `{+name}` are those of URI Templates (RFC 6570, levels 1 and 2); in other texts than addresses
both put the value in as it is. In a body only names that are known count: braces mean other things there.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping
from datetime import datetime, timedelta
from typing import cast
from urllib.parse import quote
from xml.sax.saxutils import escape

from pydantic import JsonValue

from tessaron.sources.web.feed_model import Moment, RequestPart

_PLACE = re.compile(r"\{(\+?)([a-z][a-z0-9_]*)\}")
_SAFE = ":/?#[]@!$&'()*+,;="
"""What `{+name}` leaves as it is, with what all addresses may have."""
Values = Mapping[str, str | int]


def names_in(text: str) -> list[str]:
    """Return the names in braces in a text."""
    return [found[2] for found in _PLACE.finditer(text)]


def filled_address(template: str, values: Values) -> str:
    """Return an address with values in it, in which they are quoted."""

    def fill(found: re.Match[str]) -> str:
        # What is all there is, is an address itself.
        is_open = found[1] or found[0] == template
        return quote(str(values[found[2]]), _SAFE if is_open else "")

    return _PLACE.sub(fill, template)


def filled(template: str, values: Values, form: Callable[[str], str] = str) -> str:
    """Return a text with those of its names that are known filled in, each in the form of the text."""
    return _PLACE.sub(lambda found: form(str(values[found[2]])) if found[2] in values else found[0], template)


def filled_xml(template: str, values: Values) -> str:
    """Return XML with values in it, whose special characters are escaped."""
    return filled(template, values, lambda value: escape(value, {'"': "&quot;"}))


def filled_json(value: JsonValue, values: Values) -> JsonValue:
    """Return JSON with values in its texts; a text that is a name alone becomes the value, a number too."""
    if isinstance(value, str):
        whole = _PLACE.fullmatch(value)
        return values[whole[2]] if whole and whole[2] in values else filled(value, values)
    if isinstance(value, list):
        return [filled_json(each, values) for each in value]
    if isinstance(value, dict):
        return {name: filled_json(each, values) for name, each in value.items()}
    return value


def texts_of(part: RequestPart, url: str) -> Iterator[tuple[tuple[str, ...], str]]:
    """Yield the texts of a request in which a name in braces has to be known, by their keys."""
    yield ("url",), url
    for key in ("parameters", "headers", "form"):
        for name, value in cast("Mapping[str, object]", getattr(part, key)).items():
            if isinstance(value, str):
                yield (key, name), value


def moments(now: datetime) -> dict[str, str]:
    """Return what stands for moments without a word in a feed file, in UTC."""
    return {
        "today": now.strftime("%Y-%m-%d"),
        "yesterday": (now - timedelta(days=1)).strftime("%Y-%m-%d"),
        "now": now.strftime("%Y-%m-%dT%H:%M:%SZ"),
    }


def value_at(value: str | int | Moment, now: datetime) -> str | int:
    """Return a value of a feed file as it is at a moment."""
    if not isinstance(value, Moment):
        return value
    return (now + timedelta(days=value.days, hours=value.hours)).strftime(value.format)
