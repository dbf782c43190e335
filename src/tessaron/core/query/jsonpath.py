"""JSONPath (RFC 9535) in full: parsed and checked, then evaluated on parsed JSON."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from tessaron.core.base.parsed_values import Parsed
from tessaron.core.query.jsonpath_evaluation import Match, find_matches
from tessaron.core.query.jsonpath_parsing import PathParser
from tessaron.core.query.jsonpath_syntax import Condition, Filter, NameSelector, Segment, Wildcard, uses_root

__all__ = ["JsonPath", "Match", "parse_path"]


@dataclass(frozen=True, slots=True)
class Stream:
    """How a path is evaluated piece by piece.

    Attributes:
        names: The way to an array or object whose elements or members are the pieces.
        condition: What must hold for a piece.
        rest: What is evaluated on each of them.
    """

    names: tuple[str, ...]
    condition: Condition | None
    rest: tuple[Segment, ...]


@dataclass(frozen=True, slots=True)
class JsonPath:
    """A parsed path.

    Attributes:
        text: As it was written.
        segments: Its steps, from the root.
        ends: Where each of them ends in the text.
    """

    text: str
    segments: tuple[Segment, ...]
    ends: tuple[int, ...] = ()

    def part(self, count: int) -> str:
        """Return the text of the first `count` segments."""
        return self.text[: self.ends[count - 1]] if count else self.text[:1]

    def plain_names(self) -> tuple[str, ...] | None:
        """Return the names before a final wildcard, if the path is just that: it can be streamed."""
        stream = self.stream()
        return None if stream is None or stream.condition or stream.rest else stream.names

    def stream(self) -> Stream | None:
        """Return how the path can be evaluated on a document of any size, piece by piece; None if it cannot.

        It can when it begins with names and a wildcard or filter, and nothing in it looks at the whole.
        """
        names: list[str] = []
        for index, segment in enumerate(self.segments):
            selector = segment.selectors[0]
            if segment.descends or len(segment.selectors) != 1 or any(map(uses_root, self.segments)):
                return None
            if isinstance(selector, (Wildcard, Filter)):
                condition = selector.condition if isinstance(selector, Filter) else None
                return Stream(tuple(names), condition, self.segments[index + 1 :])
            if not isinstance(selector, NameSelector):
                return None
            names.append(selector.name)
        return None

    def last_name(self) -> str | None:
        """Return the last name in the path; None if it has none."""
        selectors = [selector for segment in self.segments for selector in segment.selectors]
        names = [selector.name for selector in selectors if isinstance(selector, NameSelector)]
        return names[-1] if names else None

    def find(self, document: Parsed) -> Iterator[Match]:
        """Yield the matches in a parsed document, in the order of RFC 9535.

        Args:
            document: Objects as dicts or `Pairs`, arrays as lists, numbers as int or `NumberText`.
        """
        return find_matches(self.segments, Match(document), document)


def parse_path(text: str) -> JsonPath:
    """Return the path that `text` spells.

    Raises:
        UsageError: With the place of the character that cannot stand there.
    """
    return JsonPath(text, *PathParser(text).parse())
