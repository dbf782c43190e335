"""Reading feed files; all mistakes come at once, each with its line."""

from __future__ import annotations

import tomllib
from difflib import get_close_matches
from pathlib import Path

from pydantic import BaseModel, ValidationError

from tessaron.core.base.errors import SourceError, UsageError
from tessaron.core.base.visible import in_quotes
from tessaron.core.layout.toml_lines import key_lines
from tessaron.sources.web.feed_model import FeedPart, Paging, SignIn

ENDING = ".feed.toml"
_KEYS: dict[str, type[BaseModel]] = {"": FeedPart, "pages": Paging, "sign_in": SignIn}
_SECRET_HEADERS = ("authorization", "cookie", "key", "token", "secret", "password")


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

    for name in data.get("headers", {}):
        if any(word in name.lower() for word in _SECRET_HEADERS):
            say(("headers", name), "a secret goes under [sign_in], as env:NAME")
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


def _message(said: str, keys: tuple[str, ...]) -> str:
    said = said.removeprefix("Value error, ")
    if not said.startswith("Extra inputs"):
        return said[:1].lower() + said[1:]
    model = _KEYS.get(keys[0] if len(keys) > 1 else "", FeedPart)
    near = get_close_matches(keys[-1], list(model.model_fields), 1)
    return f"no such key; did you mean {near[0]}?" if near else f"no such key {in_quotes(keys[-1])}"
