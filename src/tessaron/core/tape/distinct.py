"""How many different values there are: exactly while they are few, then estimated in little memory.

The estimate is a HyperLogLog (Flajolet, Fusy, Gandouet, Meunier 2007) of 2^12 registers over 64-bit hashes;
its standard error is 1.04 / sqrt(4096) = 1.6 %.
"""

from __future__ import annotations

import hashlib
import math
from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt

from tessaron.core.base.text_lane import Bytes, Int64s, TextLane

TELLING_FROM = 20
"""Of fewer values it says nothing that all are the same, or none is."""
KEPT = 200
"""So many different values are kept with their counts."""
STANDARD_ERROR = 0.016
_BITS = 12
_REGISTERS = 1 << _BITS
_ALPHA = 0.7213 / (1 + 1.079 / _REGISTERS)

Hashes = npt.NDArray[np.uint64]
_AT_ONCE = 1024 * 1024
"""Bytes hashed at once; a longer text is hashed by BLAKE2b."""
_BASE = 0x9E3779B97F4A7C15
_INVERSE = pow(_BASE, -1, 1 << 64)


def hash_texts(lane: TextLane) -> Hashes:
    """Return a 64-bit hash of each text: a polynomial over its bytes modulo 2^64, then mixed."""
    lengths = lane.byte_lengths
    if len(lane) > 1 and int(lane.offsets[-1] - lane.offsets[0]) > _AT_ONCE:
        half = len(lane) // 2
        return np.concatenate((hash_texts(lane.slice(0, half)), hash_texts(lane.slice(half, len(lane)))))
    if len(lane) == 1 and lengths[0] > _AT_ONCE:
        data = lane.data[lane.offsets[0] : lane.offsets[1]].tobytes()
        return np.frombuffer(hashlib.blake2b(data, digest_size=8).digest(), np.uint64)
    start, stop = int(lane.offsets[0]), int(lane.offsets[-1])
    size = stop - start
    powers = _powers(_BASE, size)
    sums = np.zeros(size + 1, np.uint64)
    np.cumsum((lane.data[start:stop].astype(np.uint64) + np.uint64(1)) * powers[:size], out=sums[1:])
    begins, ends = lane.offsets[:-1] - start, lane.offsets[1:] - start
    found = (sums[ends] - sums[begins]) * _powers(_INVERSE, size)[begins]
    return _mixed(found + (ends - begins).astype(np.uint64))


def hash_integers(values: Int64s) -> Hashes:
    """Return a 64-bit hash of each integer."""
    return _mixed(values.view(np.uint64) + np.uint64(0x632BE59BD9B4E019))


_KNOWN_POWERS: dict[int, Hashes] = {}


def _powers(base: int, size: int) -> Hashes:
    """Return the powers of `base` modulo 2^64, from 0 to `size` at least; kept, as they never change."""
    known = _KNOWN_POWERS.get(base)
    if known is None or len(known) <= size:
        factors = np.full(max(2 * size, 1 << 16), base, np.uint64)
        factors[0] = 1
        known = _KNOWN_POWERS[base] = np.cumprod(factors)
    return known


def _mixed(values: Hashes) -> Hashes:
    """Return the values with their bits spread (the finalizer of SplitMix64)."""
    values = (values ^ (values >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
    values = (values ^ (values >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
    return values ^ (values >> np.uint64(31))


@dataclass(slots=True)
class Distinct:
    """The different values seen. Merges in any order, to the same result.

    Attributes:
        counts: The values with their counts, by their hash; None once there are more than `KEPT`.
    """

    counts: dict[int, tuple[str, int]] | None = field(default_factory=dict)
    _registers: Bytes | None = None

    @property
    def is_exact(self) -> bool:
        """Whether `estimate` is exact."""
        return self.counts is not None

    def estimate(self) -> int:
        """Return how many different values there are."""
        if self.counts is not None:
            return len(self.counts)
        assert self._registers is not None
        zeros = int((self._registers == 0).sum())
        raw = _ALPHA * _REGISTERS**2 / float((2.0 ** -self._registers.astype(np.float64)).sum())
        if raw <= 2.5 * _REGISTERS and zeros:
            raw = _REGISTERS * math.log(_REGISTERS / zeros)
        return round(raw)

    def add(self, hashes: Hashes, counts: Int64s, texts: list[str] | None) -> None:
        """Take in different values with their counts; `texts` is None where there are too many to keep."""
        if self.counts is not None and texts is not None:
            for key, count, text in zip(hashes.tolist(), counts.tolist(), texts, strict=True):
                known = self.counts.get(key)
                self.counts[key] = (text, count + (known[1] if known else 0))
            if len(self.counts) <= KEPT:
                return
            hashes = np.empty(0, np.uint64)
        self._give_up_counts()
        self._register(hashes)

    def merge(self, other: Distinct) -> None:
        """Take in what another has seen."""
        if other.counts is not None:
            keys = np.array(list(other.counts), np.uint64)
            values = list(other.counts.values())
            self.add(keys, np.array([count for _, count in values], np.int64), [text for text, _ in values])
            return
        self._give_up_counts()
        assert self._registers is not None
        assert other._registers is not None
        np.maximum(self._registers, other._registers, out=self._registers)

    def _give_up_counts(self) -> None:
        if self._registers is None:
            self._registers = np.zeros(_REGISTERS, np.uint8)
        if self.counts is not None:
            kept, self.counts = np.array(list(self.counts), np.uint64), None
            self._register(kept)

    def _register(self, hashes: Hashes) -> None:
        if not len(hashes):
            return
        assert self._registers is not None
        places = (hashes >> np.uint64(64 - _BITS)).astype(np.int64)
        rest = (hashes << np.uint64(_BITS)) | np.uint64(1 << (_BITS - 1))
        # The place of the first set bit: float64 keeps the exponent exactly once low bits are cut off.
        high = (rest >> np.uint64(11)).astype(np.float64)
        ranks = (53 - np.floor(np.log2(high))).astype(np.uint8)
        np.maximum.at(self._registers, places, ranks)
