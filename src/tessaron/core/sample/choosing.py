"""Choosing few records that show all structures: every path, and every kind at it."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from tessaron.core.base.parsed_values import NumberText, Pairs, Parsed
from tessaron.core.base.paths import ELEMENT

_MOST_FEATURES = 200_000
"""Beyond so many paths and kinds nothing is called rare any more: names are data then."""


@dataclass(slots=True)
class Choice:
    """Takes records one after the other and keeps the few that are worth it.

    Args:
        most: So many are chosen at last.

    Attributes:
        seen: Records taken.
    """

    most: int
    seen: int = 0
    _known: dict[Any, int] = field(default_factory=dict)
    _first: dict[int, Any] = field(default_factory=dict)
    _rare: dict[int, tuple[Any, list[int]]] = field(default_factory=dict)

    def take(self, record: Parsed) -> None:
        """Look at the next record."""
        number = self.seen
        self.seen += 1
        if number < self.most:
            self._first[number] = record
        new = self._new_features(record)
        if new and len(self._rare) < 50 * self.most:
            self._rare[number] = (record, new)

    def chosen(self) -> list[Parsed]:
        """Return the chosen records, in their order: those that show most first, then the first of all."""
        taken: dict[int, Any] = {}
        for number, (record, _) in sorted(self._rare.items(), key=lambda item: (-len(item[1][1]), item[0])):
            if len(taken) < self.most:
                taken[number] = record
        for number, record in self._first.items():
            if len(taken) < self.most:
                taken.setdefault(number, record)
        return [taken[number] for number in sorted(taken)]

    def _new_features(self, record: Parsed) -> list[int]:
        """Return the paths and kinds that no record had before."""
        new: list[int] = []
        known = self._known
        pending: list[tuple[int, Any]] = [(0, record)]
        while pending:
            above, value = pending.pop()
            key = (above, _KINDS.get(type(value), "object"))
            here = known.get(key)
            if here is None:
                if len(known) >= _MOST_FEATURES:
                    continue
                here = known[key] = len(known) + 1
                new.append(here)
            if isinstance(value, (dict, Pairs)):
                members = value.items() if isinstance(value, dict) else value
                pending.extend((self._step(above, name), item) for name, item in members)
            elif isinstance(value, list):
                step = self._step(above, ELEMENT)
                pending.extend((step, item) for item in value)
        return new

    def _step(self, above: int, step: Any) -> int:
        key = (above, "step", step)
        here = self._known.get(key)
        if here is None:
            if len(self._known) >= _MOST_FEATURES:
                return -1
            here = self._known[key] = len(self._known) + 1
        return here


_KINDS = {
    type(None): "null",
    bool: "boolean",
    int: "integer",
    NumberText: "number",
    str: "text",
    list: "array",
}
