"""Why a path matches nothing: how far it leads, what stands there, and which paths are near it."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from difflib import SequenceMatcher
from typing import Any

from tessaron.core.base.json_text import json_text
from tessaron.core.base.parsed_values import NumberText, Pairs, Parsed
from tessaron.core.base.paths import ELEMENT, Path, format_path
from tessaron.core.query.jsonpath import JsonPath, Match
from tessaron.core.query.jsonpath_evaluation import find_matches
from tessaron.core.query.jsonpath_syntax import (
    ComparisonExpr,
    Filter,
    Index,
    Literal,
    NameSelector,
    Query,
    Segment,
    Wildcard,
)

MOST_PATHS = 4_000
"""So many of the paths that exist are looked at."""
_SHOWN_NAMES, _SHOWN_PATHS, _SHOWN_VALUES = 6, 3, 4
_FAR, _CLOSE = 1.3, 0.2
_OTHER_CASE, _ARRAY_STEP, _LEVEL, _OTHER_NAME = 0.1, 0.25, 0.7, 3.0
_ALIKE = 0.6
_ALL = Segment((Wildcard(),))


@dataclass(frozen=True, slots=True)
class Advice:
    """What is known of a path that matches nothing.

    Attributes:
        deepest: The longest part of the path that matches something.
        matched: How many values that matches.
        there: What stands there, in words.
        nearest: Paths that exist and are near the one asked for, the nearest first.
    """

    deepest: str
    matched: int
    there: str
    nearest: tuple[str, ...]


def advise(path: JsonPath, documents: Sequence[Parsed], counts: Sequence[int] = ()) -> Advice:
    """Return what can be said, judged from some of the documents.

    Args:
        path: The path that matches nothing.
        documents: Some of the documents.
        counts: Where known, how many values each part of the path matched in all of them.
    """
    depth, found = _deepest(path, documents)
    matched = counts[depth] if len(counts) > depth and counts[depth] else len(found)
    if depth == len(path.segments):
        return Advice(path.part(depth), matched, "", ())
    segment = path.segments[depth]
    there = _describe(segment, [match.value for match in found])
    says_all = isinstance(segment.selectors[0], (Filter, Index)) and "array" in there
    return Advice(path.part(depth), matched, there, () if says_all else tuple(_nearest(path, documents)))


def _deepest(path: JsonPath, documents: Sequence[Parsed]) -> tuple[int, list[Match]]:
    for depth in range(len(path.segments), 0, -1):
        found = [
            match
            for document in documents
            for match in find_matches(path.segments[:depth], Match(document), document)
        ]
        if found:
            return depth, found
    return 0, [Match(document) for document in documents]


def _describe(segment: Segment, values: list[Parsed]) -> str:
    """Return what stands where the next segment finds nothing."""
    kinds = Counter(map(_kind, values))
    selector = segment.selectors[0]
    parts = []
    for kind, count in kinds.most_common():
        words = f"{count:,} {kind}s" if count > 1 else f"{'an' if kind[0] in 'aeiou' else 'a'} {kind}"
        if kind == "object":
            words += _with_names(values)
        elif kind == "array" and isinstance(selector, Index):
            longest = max(len(value) for value in values if isinstance(value, list))
            words += f" of at most {longest:,} elements"
        elif kind == "array" and isinstance(selector, NameSelector):
            words += ", whose elements [*] steps into"
        parts.append(words)
    if isinstance(selector, Filter):
        return " and ".join(parts) + _what_is_compared(selector, values)
    return " and ".join(parts)


def _with_names(values: Iterable[Parsed]) -> str:
    names = Counter(name for value in values if isinstance(value, (dict, Pairs)) for name in dict(value))
    shown = [name for name, _ in names.most_common(_SHOWN_NAMES)]
    if not shown:
        return " without members"
    return f" with {', '.join(shown)}" + (" …" if len(names) > len(shown) else "")


def _what_is_compared(selector: Filter, values: list[Parsed]) -> str:
    """Return the values that a filter of one comparison finds instead."""
    condition = selector.condition
    if not isinstance(condition, ComparisonExpr):
        return "; the filter lets none through"
    query = condition.left if isinstance(condition.left, Query) else condition.right
    if not isinstance(query, Query) or not (
        isinstance(condition.left, Literal) or isinstance(condition.right, Literal)
    ):
        return "; the filter lets none through"
    inner = [match.value for value in values for match in find_matches((_ALL,), Match(value), value)]
    found = Counter(
        json_text(match.value, ascii_only=False)[:40]
        for value in inner
        for match in find_matches(query.segments, Match(value), value)
        if not isinstance(match.value, (dict, list, Pairs))
    )
    if not found:
        return "; what the filter compares is in none of them"
    shown = ", ".join(f"{value} ({count:,})" for value, count in found.most_common(_SHOWN_VALUES))
    return f"; the filter finds {shown}" + (" …" if len(found) > _SHOWN_VALUES else "")


def _kind(value: Parsed) -> str:
    if isinstance(value, (dict, Pairs)):
        return "object"
    if isinstance(value, list):
        return "array"
    if value is None or isinstance(value, bool):
        return "null" if value is None else "boolean"
    return "number" if isinstance(value, (int, float, NumberText)) else "text"


def _nearest(path: JsonPath, documents: Sequence[Parsed]) -> list[str]:
    wanted, anywhere = _steps(path.segments)
    costs: list[tuple[float, str]] = []
    for existing in paths_that_exist(documents):
        cost = _distance(wanted, existing, anywhere)
        if cost <= _FAR and existing != wanted[: len(existing)]:
            costs.append((cost, format_path(existing)))
    costs.sort(key=lambda pair: pair[0])
    return [text for cost, text in costs[:_SHOWN_PATHS] if cost <= costs[0][0] + _CLOSE]


def paths_that_exist(documents: Sequence[Parsed]) -> list[Path]:
    """Return the paths in the documents, with elements of arrays taken together."""
    found: dict[Path, None] = {}
    pending: list[tuple[Path, Any]] = [((), document) for document in reversed(documents)]
    while pending and len(found) < MOST_PATHS:
        path, value = pending.pop()
        found[path] = None
        if isinstance(value, (dict, Pairs)):
            pending.extend(((*path, name), item) for name, item in reversed(list(dict(value).items())))
        elif isinstance(value, list):
            pending.extend(((*path, ELEMENT), item) for item in reversed(value))
    return list(found)


def _steps(segments: Sequence[Segment]) -> tuple[Path, bool]:
    """Return the path as steps; of one that descends the last steps, and that they may begin anywhere."""
    steps: list[Any] = []
    anywhere = False
    for segment in segments:
        if segment.descends:
            steps, anywhere = [], True
        selector = segment.selectors[0]
        steps.append(selector.name if isinstance(selector, NameSelector) else ELEMENT)
    return tuple(steps), anywhere


def _distance(wanted: Path, existing: Path, anywhere: bool) -> float:
    """Return how far two paths are apart: the cheapest way to change one into the other, step by step.

    The last names have to be one another's likes: a path that only leads near is no help.
    """
    row = [0.0]
    for step in existing:
        row.append(0.0 if anywhere else row[-1] + _cost_of_step(step))
    for step in wanted:
        above, row = row, [row[0] + _cost_of_step(step)]
        for index, other in enumerate(existing):
            row.append(
                min(
                    above[index] + _cost_of_change(step, other),
                    above[index + 1] + _cost_of_step(step),
                    row[-1] + _cost_of_step(other),
                )
            )
        if min(row) > _FAR:
            return min(row)
    names, others = ([step for step in steps if step is not ELEMENT] for steps in (wanted, existing))
    if names and (not others or _cost_of_change(names[-1], others[-1]) >= _OTHER_NAME):
        return _FAR + 1
    return row[-1]


def _cost_of_step(step: Parsed) -> float:
    return _ARRAY_STEP if step is ELEMENT else _LEVEL


def _cost_of_change(step: Parsed, other: Parsed) -> float:
    if step == other:
        return 0.0
    if not isinstance(step, str) or not isinstance(other, str):
        return _OTHER_NAME
    if _plain(step) == _plain(other):
        return _OTHER_CASE
    if abs(len(step) - len(other)) > max(len(step), len(other)) // 2:
        return _OTHER_NAME
    alike = SequenceMatcher(None, _plain(step), _plain(other)).ratio()
    return 1.0 - alike + _OTHER_CASE if alike >= _ALIKE else _OTHER_NAME


def _plain(name: str) -> str:
    return name.lower().replace("_", "").replace("-", "").replace(" ", "")
