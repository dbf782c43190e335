"""Reading feed files; all mistakes come at once, each with its line."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Iterable, Iterator
from difflib import get_close_matches
from pathlib import Path
from typing import Any
from urllib.parse import parse_qsl, urlsplit

from pydantic import BaseModel, ValidationError

from tessaron.core.base.errors import SourceError, UsageError
from tessaron.core.base.visible import in_quotes
from tessaron.core.layout.toml_lines import key_lines
from tessaron.sources.forms.addresses import check_user
from tessaron.sources.web.feed_checks import faults_of
from tessaron.sources.web.feed_model import (
    EachPart,
    FeedPart,
    MarkPart,
    Moment,
    Paging,
    SignIn,
    StepPart,
)

_KEYS: dict[str, type[BaseModel]] = {
    "": FeedPart, "pages": Paging, "sign_in": SignIn, "before": StepPart, "each": EachPart, "mark": MarkPart,
    "values": Moment,
}  # fmt: skip
_SECRET_HEADERS = ("authorization", "cookie", "key", "token", "secret", "password")
_SECRET_PARAMETER = re.compile(r"(?i)(?:^|(?:access|auth|api)[_-]?)(?:token|key)$|(?:secret|password)$")


def read_feed(path: Path) -> FeedPart:
    """Return what a feed file says.

    Raises:
        SourceError: When it cannot be read.
        UsageError: With all that is wrong in it.
    """
    try:
        text = path.read_text("utf-8")
    except OSError as error:
        raise SourceError(f"{path}: cannot be read: {error.strerror}") from error
    except UnicodeDecodeError as error:
        raise SourceError(f"{path}: cannot be read: it is no UTF-8 (byte {error.start})") from error
    return feed_of(text, str(path))


def feed_of(text: str, source: str = "feed") -> FeedPart:
    """Return what the text of a feed file says; see `read_feed`."""
    try:
        data = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise UsageError(f"{source}: not TOML: {error}") from error
    lines = key_lines(text)
    faults: list[tuple[int, str]] = []

    def say(keys: tuple[str, ...], said: str) -> None:
        faults.append((lines.line_of(keys) or 0, f"{'.'.join(keys) or 'feed'}: {said}"))

    for keys in _secrets_in(data):
        say(keys, "a secret goes under [sign_in] or [secrets], as env:NAME")
    try:
        part = FeedPart.model_validate(data)
        for keys, said in faults_of(part):
            say(keys, said)
    except ValidationError as error:
        for found in error.errors(include_url=False):
            where = _keys_in(found["loc"], data)
            say(where, _message(found["msg"], where))
    if faults:
        shown = "; ".join(f"line {line}: {said}" if line else said for line, said in sorted(faults))
        raise UsageError(f"{source}: {shown}")
    return part


def feed_of_address(url: str) -> FeedPart:
    """Return the feed that only asks for an address.

    Raises:
        UsageError: When it is no address.
    """
    check_user(url)
    try:
        # Braces stand for themselves here: there is nothing to be filled in.
        return FeedPart(url=url.replace("{", "%7B").replace("}", "%7D"))
    except ValidationError as error:
        # Without the address: a secret may stand in it.
        raise UsageError(f"the address: {_message(error.errors()[0]['msg'], ('url',))}") from error


def _keys_in(location: Iterable[object], data: object) -> tuple[str, ...]:
    """Return the keys of a location, without what pydantic adds for the kinds of a choice."""
    keys: list[str] = []
    at, parts = data, list(location)
    for place, part in enumerate(parts):
        members = dict(enumerate(at)) if isinstance(at, list) else at
        if isinstance(members, dict) and part in members:
            at = members[part]
        elif place < len(parts) - 1 or not isinstance(at, dict) or part == "[key]":
            continue
        keys.append(str(part + 1) if isinstance(part, int) else str(part))
    return tuple(keys)


def _secrets_in(data: dict[str, Any], above: tuple[str, ...] = ()) -> Iterator[tuple[str, ...]]:
    """Yield the keys of what ought not to stand in a feed file, of a request and of those in it."""
    for name in _members(data, "headers"):
        if any(word in name.lower() for word in _SECRET_HEADERS) and not _is_filled(data["headers"][name]):
            yield *above, "headers", name
    for kind in ("parameters", "form", "body"):
        for name in _members(data, kind):
            if _SECRET_PARAMETER.search(name) and not _is_filled(data[kind][name]):
                yield *above, kind, name
    url = data.get("url")
    if isinstance(url, str) and _has_secret(url):
        yield *above, "url"
    each, before = data.get("each"), data.get("before")
    if isinstance(each, dict):
        yield from _secrets_in(each, (*above, "each"))
    for number, step in enumerate(before if isinstance(before, list) else ()):
        if isinstance(step, dict):
            yield from _secrets_in(step, (*above, "before", str(number + 1)))


def _members(data: dict[str, Any], key: str) -> list[str]:
    found = data.get(key)
    return list(found) if isinstance(found, dict) else []


def _is_filled(value: object) -> bool:
    """Say whether a text has a name in braces, and beside it at most a word such as Bearer."""
    return isinstance(value, str) and bool(re.fullmatch(r"(?:[A-Za-z]{1,12} )?\{\+?[a-z][a-z0-9_]*\}", value))


def _has_secret(url: str) -> bool:
    """Say whether a password or a key stands in an address."""
    try:
        parts = urlsplit(url)
    except ValueError:
        return False
    given = [name for name, value in parse_qsl(parts.query) if not _is_filled(value)]
    return parts.password is not None or any(map(_SECRET_PARAMETER.search, given))


def _message(said: str, keys: tuple[str, ...]) -> str:
    said = said.removeprefix("Value error, ")
    if not said.startswith("Extra inputs"):
        return said[:1].lower() + said[1:]
    model = _KEYS.get(keys[0] if len(keys) > 1 else "", FeedPart)
    near = get_close_matches(keys[-1], list(model.model_fields), 1)
    return f"no such key; did you mean {near[0]}?" if near else f"no such key {in_quotes(keys[-1])}"
