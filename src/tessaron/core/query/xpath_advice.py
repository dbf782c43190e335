"""Why an XPath expression finds nothing: how far it leads, what stands there, and which paths are near it."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from difflib import SequenceMatcher, get_close_matches

_STEP = re.compile(r"(//?)((?:[A-Za-z-]+::)?@?[^/\[\]|]+)((?:\[[^\]]*\])*)")
_SHOWN_PATHS, _SHOWN_NAMES = 3, 6
_NEAR = 0.55
_NAMESPACE_MISSED, _OTHER_CASE, _LAST_NAME = 0.97, 0.95, 0.6


@dataclass(frozen=True, slots=True)
class XPathAdvice:
    """What is known of an expression that finds nothing.

    Attributes:
        deepest: The longest part of it that leads to something; empty if none does.
        there: Names that stand there.
        nearest: Paths that exist and are near it, the nearest first.
        hint: What is probably wrong, in words; or empty.
    """

    deepest: str
    there: tuple[str, ...]
    nearest: tuple[str, ...]
    hint: str


def advise_xpath(text: str, paths: Sequence[tuple[str, ...]]) -> XPathAdvice:
    """Return what can be said of an expression, judged from the paths that exist.

    Args:
        text: The expression.
        paths: All paths of elements and attributes, as names from the root, with prefixes and `@`.
    """
    steps = [name.split("::")[-1].strip() for _, name, _ in _STEP.findall(_absolute(text))]
    is_below = "//" in text or not text.startswith("/")
    known = set(paths)
    depth = _deepest(steps, paths, is_below)
    there = _below(steps[:depth], known, is_below) if depth or not is_below else ()
    scored = sorted(((_likeness(steps, path, is_below), path) for path in known), key=lambda p: (-p[0], p[1]))
    nearest = [path for score, path in scored if score >= _NEAR][:_SHOWN_PATHS]
    hint = ""
    own = nearest[0][-len(steps) :] if nearest and is_below else nearest[0] if nearest else ()
    if own and _locals(own) == _locals(steps) and own != tuple(steps):
        hint = "names in a namespace need its prefix, in every step"
    elif own and own != tuple(steps) and [n.lower() for n in own] == [n.lower() for n in steps]:
        hint = "upper and lower case are told apart"
    deepest = ("//" if is_below else "/") + "/".join(steps[:depth]) if depth else ""
    return XPathAdvice(deepest, there, tuple("/" + "/".join(path) for path in nearest), hint)


def _absolute(text: str) -> str:
    return text if text.startswith("/") else "//" + text


def _locals(names: Sequence[str]) -> list[str]:
    return [name.lstrip("@").rpartition(":")[2] for name in names]


def _deepest(steps: Sequence[str], paths: Sequence[tuple[str, ...]], is_below: bool) -> int:
    """Return how many of the steps lead to something."""
    for count in range(len(steps), 0, -1):
        wanted = tuple(steps[:count])
        for path in paths:
            begins = range(len(path) - count + 1) if is_below else [0]
            if any(_fits(wanted, path[start : start + count]) for start in begins):
                return count
    return 0


def _fits(wanted: Sequence[str], path: Sequence[str]) -> bool:
    return len(wanted) == len(path) and all(
        name in (other, "*", "node()") for name, other in zip(wanted, path, strict=True)
    )


def _below(steps: Sequence[str], paths: set[tuple[str, ...]], is_below: bool) -> tuple[str, ...]:
    count = len(steps)
    found: dict[str, None] = {}
    for path in sorted(paths):
        begins = range(len(path) - count) if is_below else [0]
        for start in begins:
            if len(path) > start + count and _fits(steps, path[start : start + count]):
                found[path[start + count]] = None
    return tuple(found)[:_SHOWN_NAMES]


def _likeness(steps: Sequence[str], path: tuple[str, ...], is_below: bool) -> float:
    """Return how like a path is to what was asked for, from 0 to 1."""
    own = path[-len(steps) :] if is_below and len(path) > len(steps) else path
    if _locals(own) == _locals(steps):
        return _NAMESPACE_MISSED
    mine, theirs = [n.lower() for n in _locals(steps)], [n.lower() for n in _locals(own)]
    if mine == theirs:
        return _OTHER_CASE
    if len(mine) > 1 and mine[:-1] == theirs[:-1]:
        return _LAST_NAME + 0.3 * SequenceMatcher(None, mine[-1], theirs[-1]).ratio()
    matched = SequenceMatcher(None, mine, theirs).ratio()
    if mine and theirs and mine[-1] == theirs[-1]:
        return min(_OTHER_CASE, 0.7 * matched + 0.35)
    last = bool(mine and theirs and get_close_matches(mine[-1], [theirs[-1]], 1, 0.7))
    return 0.7 * matched + 0.2 * last
