"""How what stands in an element of XML is ordered, as a short text; and such texts taken apart again.

The names of the elements stand in their order, a run of one name once; a run that is not the last of its name
has its length behind it, `item*2`. A piece of the text that is not empty is its letters: `#12`.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from itertools import groupby
from typing import Any

from tessaron.core.kernel.xml_elements import SPACE


def order_of(element: Any, text: str, is_wanted: Callable[[str], bool], spelled: Callable[[str], str]) -> str:
    """Return the order of what stands in an element; empty where nothing else is possible.

    Args:
        element: An element of lxml with others in it.
        text: Its own text, all pieces together and white space at the ends cleaned.
        is_wanted: Says by the name of an element in it whether it counts.
        spelled: Gives the name as it is shown.
    """
    tokens = list(_tokens(element, text, is_wanted, spelled))
    names = [token for token, _ in tokens if token is not None]
    if not names or (
        len(set(names)) == 1 and (not text or (tokens and tokens[0][0] is None and len(tokens) == 2))
    ):
        return ""
    last = {name: index for index, (name, _) in enumerate(tokens)}
    shown = []
    for index, (name, count) in enumerate(tokens):
        shown.append(f"#{count}" if name is None else name if last[name] == index else f"{name}*{count}")
    return " ".join(shown)


def _tokens(
    element: Any, text: str, is_wanted: Callable[[str], bool], spelled: Callable[[str], str]
) -> Iterator[tuple[str | None, int]]:
    """Yield runs of elements as name and length, pieces of text as None and letters."""
    parts: list[tuple[str | None, int]] = []
    pieces = element.text or ""
    lead = _lead(element, text)
    at = len(pieces)
    parts.append((None, _within(0, at, lead, len(text))))
    for child in element:
        if type(child.tag) is str and is_wanted(child.tag):
            parts.append((spelled(child.tag), 1))
        tail = len(child.tail or "")
        parts.append((None, _within(at, at + tail, lead, len(text))))
        at += tail
    some = [part for part in parts if part[1]]
    for name, run in groupby(some, key=lambda part: part[0]):
        yield name, sum(count for _, count in run)


def _lead(element: Any, text: str) -> int:
    """Return how many letters of the pieces stand before the cleaned text."""
    if not text:
        return 0
    whole = (element.text or "") + "".join(child.tail or "" for child in element)
    return 0 if whole.startswith(text) and not text[0].isspace() else len(whole) - len(whole.lstrip(SPACE))


def _within(start: int, stop: int, lead: int, length: int) -> int:
    """Return how many letters of a piece are letters of the cleaned text."""
    return max(0, min(stop - lead, length) - max(start - lead, 0))


def read_order(text: str) -> Iterator[tuple[str | None, int | None]]:
    """Yield runs as name and length, None for all that are left; pieces of text as None and letters."""
    for token in text.split(" "):
        if token.startswith("#"):
            yield None, int(token[1:])
        else:
            name, _, count = token.partition("*")
            yield name, int(count) if count else None
