"""What receipts of several runs tell together."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any


def summed(
    one: Iterable[Mapping[str, Any]],
    other: Iterable[Mapping[str, Any]],
    names: tuple[str, ...],
    counts: tuple[str, ...],
) -> list[dict[str, Any]]:
    """Return entries of two lists, those of one name added up."""
    found: dict[str, dict[str, Any]] = {}
    for each in (*one, *other):
        key = str([each[name] for name in names])
        known = found.setdefault(key, {**each, **dict.fromkeys(counts, 0)})
        for count in counts:
            known[count] += each[count]
    return list(found.values())
