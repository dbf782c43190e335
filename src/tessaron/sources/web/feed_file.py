"""Reading feed files; all mistakes come at once, each with its line."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Iterator
from difflib import get_close_matches
from pathlib import Path
from typing import Any
from urllib.parse import parse_qsl, urlsplit

from pydantic import BaseModel, ValidationError

from tessaron.core.base.errors import SourceError, UsageError
from tessaron.core.base.visible import in_quotes
from tessaron.core.layout.toml_lines import key_lines
from tessaron.sources.web.feed_model import FeedPart, Paging, SignIn

ENDING = ".feed.toml"
_KEYS: dict[str, type[BaseModel]] = {"": FeedPart, "pages": Paging, "sign_in": SignIn}
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
    except (OSError, UnicodeDecodeError) as error:
        raise SourceError(f"{path}: cannot be read: {error}") from error
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
        say(keys, "a secret goes under [sign_in], as env:NAME")
    try:
        part = FeedPart.model_validate(data)
    except ValidationError as error:
        for found in error.errors(include_url=False):
            where = tuple(map(str, found["loc"]))
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
    try:
        return FeedPart(url=url)
    except ValidationError as error:
        # Without the address: a secret may stand in it.
        raise UsageError(f"the address: {_message(error.errors()[0]['msg'], ('url',))}") from error


def _secrets_in(data: dict[str, Any]) -> Iterator[tuple[str, ...]]:
    """Yield the keys of what ought not to stand in a feed file."""
    headers, parameters, url = (data.get(name) for name in ("headers", "parameters", "url"))
    for name in headers if isinstance(headers, dict) else ():
        if any(word in name.lower() for word in _SECRET_HEADERS):
            yield "headers", name
    for name in parameters if isinstance(parameters, dict) else ():
        if _SECRET_PARAMETER.search(name):
            yield "parameters", name
    if isinstance(url, str) and _has_secret(url):
        yield ("url",)


def _has_secret(url: str) -> bool:
    """Say whether a password or a key stands in an address."""
    try:
        parts = urlsplit(url)
    except ValueError:
        return False
    names = [name for name, _ in parse_qsl(parts.query)]
    return parts.password is not None or any(map(_SECRET_PARAMETER.search, names))


def _message(said: str, keys: tuple[str, ...]) -> str:
    said = said.removeprefix("Value error, ")
    if not said.startswith("Extra inputs"):
        return said[:1].lower() + said[1:]
    model = _KEYS.get(keys[0] if len(keys) > 1 else "", FeedPart)
    near = get_close_matches(keys[-1], list(model.model_fields), 1)
    return f"no such key; did you mean {near[0]}?" if near else f"no such key {in_quotes(keys[-1])}"
