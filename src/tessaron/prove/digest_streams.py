"""Two streams of digests gone through side by side, whole arrays at a time as long as they are alike."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from tessaron.core.base.text_lane import Int64s
from tessaron.core.rebuild.record_digests import Words
from tessaron.prove.source_digests import Digests

_TURN = np.uint64(0x9E37_79B9_7F4A_7C15)
LOOK_AHEAD = 2_000
"""So many records ahead one is looked for that is not where it should be."""


@dataclass(frozen=True, slots=True)
class One:
    """A record: its source, its number there from 1, its digest."""

    source: str
    number: int
    digest: int


class Side:
    """One of the streams, with some of it read ahead."""

    def __init__(self, parts: Iterator[Digests]):
        self._parts = parts
        self._waiting: list[Digests] = []

    def fill(self, count: int) -> None:
        """Read ahead until so many records wait, or the stream ends."""
        while sum(len(part.digests) for part in self._waiting) < count:
            part = next(self._parts, None)
            if part is None:
                return
            if len(part.digests):
                self._waiting.append(part)

    def digests(self, count: int) -> Words:
        """Return the digests of the next records, at most so many."""
        if not self._waiting:
            return np.empty(0, np.uint64)
        return np.concatenate([part.digests for part in self._waiting])[:count]

    def ready(self) -> int:
        """Return how many records wait in the first part."""
        self.fill(1)
        return len(self._waiting[0].digests) if self._waiting else 0

    def first(self) -> One | None:
        """Return the next record; None at the end."""
        if not self.ready():
            return None
        part = self._waiting[0]
        return One(part.source, part.first, int(part.digests[0]))

    def pass_over(self, count: int) -> None:
        """Go on behind so many records that wait."""
        while count:
            part = self._waiting[0]
            taken = min(count, len(part.digests))
            if taken == len(part.digests):
                del self._waiting[0]
            else:
                self._waiting[0] = Digests(part.source, part.first + taken, part.digests[taken:], part.texts)
            count -= taken

    def take(self, count: int) -> list[One]:
        """Return the next records, and go on behind them."""
        found = []
        for _ in range(count):
            one = self.first()
            if one is not None:
                found.append(one)
                self.pass_over(1)
        return found


def pass_equal(left: Side, right: Side) -> int:
    """Go on behind all records that are alike on both sides; return how many."""
    passed = 0
    while count := min(left.ready(), right.ready()):
        same = left.digests(count) == right.digests(count)
        alike = count if same.all() else int(np.argmin(same))
        left.pass_over(alike)
        right.pass_over(alike)
        passed += alike
        if alike < count:
            break
    return passed


def skip(left: Side, right: Side) -> list[tuple[str, One]]:
    """Go on behind records that only one side has, to where both are alike; return them with the kind.

    Nothing is returned where the next record of both is just not the same.
    """
    for side in (left, right):
        side.fill(LOOK_AHEAD)
    ours, theirs = left.digests(LOOK_AHEAD), right.digests(LOOK_AHEAD)
    if len(ours) > 1 and len(theirs) > 1 and ours[1] == theirs[1]:
        return []
    found = np.flatnonzero(ours == theirs[0])
    if len(found):
        return [("record missing", one) for one in left.take(int(found[0]))]
    found = np.flatnonzero(theirs == ours[0])
    if len(found):
        return [("record extra", one) for one in right.take(int(found[0]))]
    return []


@dataclass(frozen=True, slots=True)
class Unmatched:
    """The records of two sides in any order: how many are alike, and those that only one side has."""

    matched: int
    left: list[One]
    right: list[One]


def unmatched(left: Iterator[Digests], right: Iterator[Digests]) -> Unmatched:
    """Return the records that only one of two streams has, in any order; all digests are in memory."""
    sides = [_Whole.of(each) for each in (left, right)]
    words = [side.words() for side in sides]
    alike = [np.isin(one, other) for one, other in zip(words, reversed(words), strict=True)]
    return Unmatched(
        int(alike[0].sum()),
        *(side.records(np.flatnonzero(~known)) for side, known in zip(sides, alike, strict=True)),
    )


@dataclass(frozen=True, slots=True)
class _Whole:
    """All digests of a stream, and where each part of it begins."""

    digests: Words
    parts: list[tuple[int, str, int]]

    @classmethod
    def of(cls, stream: Iterator[Digests]) -> _Whole:
        found, parts, count = [], [], 0
        for part in stream:
            parts.append((count, part.source, part.first))
            found.append(part.digests)
            count += len(part.digests)
        return cls(np.concatenate(found) if found else np.empty(0, np.uint64), parts)

    def words(self) -> Words:
        """Return a word for each record, another for each that has the same digest."""
        order = np.argsort(self.digests, kind="stable")
        inside = self.digests[order]
        starts = np.flatnonzero(np.concatenate(([True], inside[1:] != inside[:-1]))) if len(inside) else order
        lengths = np.diff(np.append(starts, len(inside)))
        turns = np.arange(len(inside)) - np.repeat(starts, lengths)
        made = np.empty(len(inside), np.uint64)
        made[order] = inside + turns.astype(np.uint64) * _TURN
        return made

    def records(self, at: Int64s) -> list[One]:
        """Return the records at some places."""
        begins = [begin for begin, _, _ in self.parts]
        found = []
        for place in at.tolist():
            begin, source, first = self.parts[bisect_right(begins, place) - 1]
            found.append(One(source, first + place - begin, int(self.digests[place])))
        return found
