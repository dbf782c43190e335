"""How what stands in an element of XML is ordered, as a short text; and such texts taken apart again.

The names of the elements stand in their order, a run of one name once; a run that is not the last of its name
has its length behind it, `item*2`. A piece of the text that is not empty is its letters: `#12`. Records that
stood among others are `?`, which is no name.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from itertools import groupby, pairwise

from tessaron.core.base.parsed_values import XmlElement
from tessaron.core.kernel.xml_elements import RUN_OF_SPACE, SPACE, records_at

RECORDS = "?"
"""What stands for records in the order of the document around them."""


def order_of(
    element: XmlElement, text: str, is_wanted: Callable[[str], bool], spelled: Callable[[str], str]
) -> str:
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
    element: XmlElement, text: str, is_wanted: Callable[[str], bool], spelled: Callable[[str], str]
) -> Iterator[tuple[str | None, int]]:
    """Yield runs of elements as name and length, pieces of text as None and letters."""
    parts: list[tuple[str | None, int]] = []
    pieces = [element.text or "", *(child.tail or "" for child in element)]
    letters = _letters(pieces, text)
    parts.append((None, letters[0]))
    for child, count in zip(element, letters[1:], strict=True):
        if type(child.tag) is str and is_wanted(child.tag):
            parts.append((spelled(child.tag), 1))
        elif records := records_at(child):
            parts.append((RECORDS, records))
        parts.append((None, count))
    some = [part for part in parts if part[1]]
    for name, run in groupby(some, key=lambda part: part[0]):
        yield name, sum(count for _, count in run)


def _letters(pieces: list[str], text: str) -> list[int]:
    """Return how many letters of the cleaned text each piece of the text as it was written has."""
    if not text:
        return [0] * len(pieces)
    whole = "".join(pieces)
    at = 0 if text == whole else len(whole.lstrip(SPACE)) - len(whole)
    if text not in (whole, whole.strip(SPACE)):
        pieces, at = _collapsed(pieces), 0
    ends = [0]
    for piece in pieces:
        at += len(piece)
        ends.append(min(max(at, 0), len(text)))
    return [stop - start for start, stop in pairwise(ends)]


def _collapsed(pieces: list[str]) -> list[str]:
    """Return pieces of a text in which every run of white space, also of several pieces, is one blank."""
    made, after_space = [], True
    for piece in pieces:
        short = RUN_OF_SPACE.sub(" ", piece)
        made.append(short[1:] if after_space and short[:1] == " " else short)
        after_space = short[-1:] == " " if short else after_space
    return made


def read_order(text: str) -> Iterator[tuple[str | None, int | None]]:
    """Yield runs as name and length, None for all that are left; pieces of text as None and letters."""
    for token in text.split(" "):
        if token.startswith("#"):
            yield None, int(token[1:])
        else:
            name, _, count = token.partition("*")
            yield name, int(count) if count else None
