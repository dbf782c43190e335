"""JSONPath (RFC 9535) without filters: parsed, evaluated on parsed JSON, matches with their places."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any, NoReturn

from tessaron.core.errors import UsageError
from tessaron.core.kernel.growing import Pairs
from tessaron.core.paths import ELEMENT, Path

_SHORTHAND = re.compile(r"[A-Za-z_\u0080-\U0010ffff][A-Za-z0-9_\u0080-\U0010ffff]*")
_INTEGER = re.compile(r"0|-?[1-9][0-9]*")
_SLICE = re.compile(r"(0|-?[1-9][0-9]*)?\s*:\s*(0|-?[1-9][0-9]*)?(?:\s*:\s*(0|-?[1-9][0-9]*)?)?")
_SPACE = re.compile(r"[ \t\n\r]*")
_ESCAPES = {"b": "\b", "f": "\f", "n": "\n", "r": "\r", "t": "\t", "/": "/", "\\": "\\"}


@dataclass(frozen=True, slots=True)
class Name:
    """Selects the member of that name."""

    name: str


@dataclass(frozen=True, slots=True)
class Wildcard:
    """Selects all members of an object, all elements of an array."""


@dataclass(frozen=True, slots=True)
class Index:
    """Selects one element, counted from 0, or from the end if negative."""

    index: int


@dataclass(frozen=True, slots=True)
class Slice:
    """Selects elements from `start` to `stop` (exclusive) by `step` (RFC 9535 section 2.3.4)."""

    start: int | None
    stop: int | None
    step: int


Selector = Name | Wildcard | Index | Slice


@dataclass(frozen=True, slots=True)
class Segment:
    """One step: selectors applied to the children of a value, or to all its descendants too."""

    selectors: tuple[Selector, ...]
    descends: bool = False


@dataclass(frozen=True, slots=True)
class Match:
    """A value found: its place, and the name of the member it is, if it is one."""

    path: Path
    value: Any
    key: str | None = None


@dataclass(frozen=True, slots=True)
class JsonPath:
    """A parsed path.

    Attributes:
        text: As it was written.
        segments: Its steps, from the root.
    """

    text: str
    segments: tuple[Segment, ...]

    def plain_names(self) -> tuple[str, ...] | None:
        """Return the names before a final wildcard, if the path is just that: it can be streamed."""
        if not self.segments or self.segments[-1] != Segment((Wildcard(),)):
            return None
        names = []
        for segment in self.segments[:-1]:
            selector = segment.selectors[0]
            if segment.descends or len(segment.selectors) != 1 or not isinstance(selector, Name):
                return None
            names.append(selector.name)
        return tuple(names)

    def last_name(self) -> str | None:
        """Return the last name in the path; None if it has none."""
        selectors = [selector for segment in self.segments for selector in segment.selectors]
        names = [selector.name for selector in selectors if isinstance(selector, Name)]
        return names[-1] if names else None

    def find(self, document: Any) -> Iterator[Match]:
        """Yield the matches in a parsed document (objects as `Pairs` or dict), in the order of RFC 9535."""
        return self._below(Match((), document), 0)

    def _below(self, match: Match, depth: int) -> Iterator[Match]:
        if depth == len(self.segments):
            yield match
            return
        segment = self.segments[depth]
        for start in _descendants(match) if segment.descends else (match,):
            for selector in segment.selectors:
                for child in _select(selector, start):
                    yield from self._below(child, depth + 1)


def _descendants(match: Match) -> Iterator[Match]:
    pending = [match]
    while pending:
        found = pending.pop()
        yield found
        pending.extend(reversed(list(_children(found))))


def _children(match: Match) -> Iterator[Match]:
    value = match.value
    if isinstance(value, (Pairs, dict)):
        for name, item in value.items() if isinstance(value, dict) else value:
            yield Match((*match.path, name), item, name)
    elif isinstance(value, list):
        for item in value:
            yield Match((*match.path, ELEMENT), item)


def _select(selector: Selector, match: Match) -> Iterator[Match]:
    value = match.value
    match selector:
        case Wildcard():
            yield from _children(match)
        case Name(name):
            if isinstance(value, (Pairs, dict)):
                yield from (child for child in _children(match) if child.key == name)
        case Index(index):
            if isinstance(value, list) and -len(value) <= index < len(value):
                yield Match((*match.path, ELEMENT), value[index])
        case Slice(start, stop, step):
            if isinstance(value, list) and step:
                for item in value[slice(start, stop, step)]:
                    yield Match((*match.path, ELEMENT), item)


def parse_path(text: str) -> JsonPath:
    """Return the path that `text` spells.

    Raises:
        UsageError: With the place of the character that cannot stand there.
    """
    return _PathParser(text).parse()


class _PathParser:
    def __init__(self, text: str):
        self.text = text
        self.at = 0

    def parse(self) -> JsonPath:
        if not self.text.startswith("$"):
            self._fail("a path that begins with '$', for the document")
        self.at = 1
        segments: list[Segment] = []
        while True:
            self._skip()
            if self.at >= len(self.text):
                return JsonPath(self.text, tuple(segments))
            segments.append(self._segment())

    def _segment(self) -> Segment:
        if self.text.startswith("..", self.at):
            self.at += 2
            if self._next() == "[":
                return Segment(self._bracketed(), descends=True)
            return Segment((self._short(),), descends=True)
        if self._next() == ".":
            self.at += 1
            return Segment((self._short(),))
        if self._next() == "[":
            return Segment(self._bracketed())
        self._fail("'.', '..' or '['")

    def _short(self) -> Selector:
        if self._next() == "*":
            self.at += 1
            return Wildcard()
        found = _SHORTHAND.match(self.text, self.at)
        if not found:
            self._fail("a name or '*'; a name with other characters stands in brackets, ['so']")
        self.at = found.end()
        return Name(found.group())

    def _bracketed(self) -> tuple[Selector, ...]:
        self.at += 1
        selectors: list[Selector] = []
        while True:
            self._skip()
            selectors.append(self._selector())
            self._skip()
            if self._next() == "]":
                self.at += 1
                return tuple(selectors)
            if self._next() != ",":
                self._fail("',' or ']'")
            self.at += 1

    def _selector(self) -> Selector:
        character = self._next()
        if character == "*":
            self.at += 1
            return Wildcard()
        if character in ("'", '"') and character:
            return Name(self._quoted(character))
        found = _SLICE.match(self.text, self.at)
        if found:
            self.at = found.end()
            start, stop, step = (None if part is None else int(part) for part in found.groups())
            return Slice(start, stop, 1 if step is None else step)
        found = _INTEGER.match(self.text, self.at)
        if found:
            self.at = found.end()
            return Index(int(found.group()))
        self._fail("a quoted name, a number, a slice or '*'")

    def _quoted(self, quote: str) -> str:
        self.at += 1
        letters: list[str] = []
        while True:
            character = self._next()
            if not character:
                self._fail(f"the closing {quote}")
            self.at += 1
            if character == quote:
                return "".join(letters)
            letters.append(self._escaped(quote) if character == "\\" else character)

    def _escaped(self, quote: str) -> str:
        character = self._next()
        self.at += 1
        if character == quote:
            return quote
        if character == "u":
            found = re.compile(r"[0-9A-Fa-f]{4}").match(self.text, self.at)
            if found:
                self.at += 4
                return chr(int(found.group(), 16))
        elif character in _ESCAPES:
            return _ESCAPES[character]
        self.at -= 1
        self._fail("an escape of JSON")

    def _next(self) -> str:
        return self.text[self.at : self.at + 1]

    def _skip(self) -> None:
        found = _SPACE.match(self.text, self.at)
        assert found is not None
        self.at = found.end()

    def _fail(self, expected: str) -> NoReturn:
        found = self._next()
        got = f"found {found!r}" if found else "but it ends"
        raise UsageError(f"path {self.text!r}, character {self.at + 1}: expected {expected}, {got}")
