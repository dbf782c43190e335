"""Names that stand twice in one object: found, and all but the last value taken out."""

from __future__ import annotations

from typing import Any

from tessaron.core.base.parsed_values import Pairs, Parsed
from tessaron.core.base.paths import ELEMENT, Path


def drop_repeated(value: Parsed) -> tuple[Parsed, tuple[tuple[Path, Parsed], ...]]:
    """Return `value` with each name once in its object, and the path and value of what was dropped.

    RFC 8259 section 4 leaves it open what a repeated name means; here the last value wins, at the place of
    the first.
    """
    if not _has_repeated(value):
        return value, ()
    dropped: list[tuple[Path, Any]] = []
    holder: list[Any] = [value]
    pending: list[tuple[Any, Any, Path]] = [(holder, 0, ())]
    while pending:
        container, key, path = pending.pop()
        item = container[key]
        if isinstance(item, Pairs):
            last: dict[str, Any] = {}
            for name, inner in item:
                if name in last:
                    dropped.append(((*path, name), last[name]))
                last[name] = inner
            container[key] = last
            pending.extend((last, name, (*path, name)) for name in last)
        elif isinstance(item, list):
            pending.extend((item, index, (*path, ELEMENT)) for index in range(len(item)))
    return holder[0], tuple(dropped)


def _has_repeated(value: Parsed) -> bool:
    pending = [value]
    while pending:
        item = pending.pop()
        if isinstance(item, Pairs):
            if len({name for name, _ in item}) < len(item):
                return True
            pending.extend(inner for _, inner in item if isinstance(inner, (Pairs, list)))
        elif isinstance(item, list):
            pending.extend(inner for inner in item if isinstance(inner, (Pairs, list)))
    return False
