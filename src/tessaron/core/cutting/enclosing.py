"""The elements that records stand in: what holds in them, and their numbers, which records refer to."""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from xml.sax.saxutils import quoteattr

from tessaron.core.base.paths import ENCLOSING
from tessaron.core.markup.namespaces import XML_NAMESPACE, Prefixes
from tessaron.core.markup.record_path import Name, NameTest, RecordPath
from tessaron.core.markup.tokens import attributes_of, resolved

MOST_OUTLINE_BYTES = 64 * 1024 * 1024
"""So many bytes, at most, of the elements of one document are kept: more than any that is held has."""
_MOST_ABOVE = 1_000
"""So many values, about, are kept of an element around records, where they are wanted with these."""


@dataclass(slots=True)
class OpenElement:
    """An element that is open, outside of the records."""

    tag: bytes
    name: Name
    namespaces: dict[str, str]
    keeps_space: bool
    values: dict[str, str] = field(default_factory=dict)
    """Its attributes and the texts of elements in it so far, by their path from it."""
    text: str | None = None
    """What stands in it so far, while that is only text."""
    step: str = ""
    """How a path with positions goes on to it."""
    counts: dict[bytes, int] = field(default_factory=dict)
    """How many elements of each tag stood in it so far."""
    content_at: int = 0
    """Where in the document without records its content begins."""
    has_records: bool = False
    is_on_way: bool = False
    """Whether the way to the records leads through it."""
    number: int = 0
    """Its number among those on the way to the records; 0 for others."""

    @classmethod
    def of(cls, found: re.Match[bytes], above: OpenElement | None, prefixes: Prefixes) -> OpenElement | str:
        """Return the element of a start tag; the prefix of its name, if that is declared nowhere.

        Args:
            found: The tag, as `tokens.TOKEN` matches it.
            above: The element around it, if there is one.
            prefixes: Learns what it declares.
        """
        namespaces = above.namespaces if above else {}
        keeps_space = above.keeps_space if above else False
        attributes = found["attributes"]
        if b"xmlns" in attributes:
            namespaces = dict(namespaces)
            for name, value in attributes_of(attributes):
                if name == "xmlns" or name.startswith("xmlns:"):
                    prefix = name[6:]
                    namespaces[prefix] = value
                    prefixes.learn(prefix, value)
        if b"xml:space" in attributes:
            keeps_space = dict(attributes_of(attributes)).get("xml:space") == "preserve"
        prefix, _, local = found["start"].decode("utf-8", "replace").rpartition(":")
        if prefix and prefix not in namespaces and prefix != "xml":
            return prefix
        return cls(found["start"], Name(namespaces.get(prefix, ""), local), namespaces, keeps_space)

    def keep_attributes(self, attributes: bytes, prefixes: Prefixes) -> None:
        """Let its attributes be values of it; what stands in it may be text."""
        self.text = ""
        for name, value in attributes_of(attributes):
            prefix, _, local = name.rpartition(":")
            if name != "xmlns" and prefix != "xmlns":
                spelled = Name(self.namespaces.get(prefix, XML_NAMESPACE) if prefix else "", local)
                self.values["@" + spelled.shown(prefixes)] = value

    def keep(self, ended: OpenElement, prefixes: Prefixes) -> None:
        """Let an element in it that ends be a value of it, if that holds only text."""
        name = ended.name.shown(prefixes)
        if ended.text is not None:
            self.values.setdefault(name, resolved(ended.text.encode()).strip())
        if len(self.values) < _MOST_ABOVE:
            for inner, value in ended.values.items():
                self.values.setdefault(f"{name}/{inner}", value)


class EnclosingElements:
    """Numbers the elements on the way to the records, level by level, as the rows of their tables are.

    Only where every step of the way is a name: else one level would be of several tables. For a document that
    cannot be parsed the elements are spelled without what is in them, so that no number loses its row.

    Args:
        path: Where the records stand.

    Attributes:
        are_counted: Whether there is anything to count.
    """

    def __init__(self, path: RecordPath):
        above = path.tests[1:-1]
        self.are_counted = len(above) > 0 and all(test.local != "*" for test in path.tests[:-1])
        self._counts = [0] * len(path.tests)
        way = path.tests[:-1]
        self._openings = [_opening(test, way[at - 1] if at else None) for at, test in enumerate(way)]
        self._closings = [f"</{test.local}>".encode() for test in way]
        self._outline = bytearray()

    def open(self, depth: int) -> int:
        """Count an element on the way, `depth` elements below the root; return its number, from 1."""
        self._add(self._openings[depth])
        self._counts[depth] += 1
        return self._counts[depth]

    def close(self, depth: int) -> None:
        """Take in that an element on the way ends."""
        self._add(self._closings[depth])

    def outline(self) -> bytes:
        """Return the elements of the document that has ended, and nothing else; empty if too many."""
        made = bytes(self._outline) if len(self._outline) <= MOST_OUTLINE_BYTES else b""
        self._outline.clear()
        return made

    def _add(self, tag: bytes) -> None:
        if len(self._outline) <= MOST_OUTLINE_BYTES:
            self._outline += tag


def _opening(test: NameTest, above: NameTest | None) -> bytes:
    """Return a start tag, which declares its namespace where the one above it has another."""
    space = test.namespace or ""
    is_known = above is not None and (above.namespace or "") == space
    return f"<{test.local}{'' if is_known else f' xmlns={quoteattr(space)}'}>".encode()


def numbers_of(levels: list[int]) -> tuple[int, ...]:
    """Return the numbers of the elements that a record stands in, the innermost first, without the root.

    Args:
        levels: Their numbers from the root down.
    """
    return tuple(reversed(levels[1:]))[: len(ENCLOSING)]
