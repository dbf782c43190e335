"""Digests of 128 bits for whole columns: SipHash-2-4 with a fixed key (Aumasson and Bernstein, 2012).

They tell values apart and are the same on every run and machine; they are no protection against someone
who looks for two values with one digest.
"""

from __future__ import annotations

import hashlib
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from tessaron.core.base.arrays import ArrowArray
from tessaron.core.base.text_lane import TextLane

Digests = npt.NDArray[np.uint64]
"""One row of two 64-bit words per value."""

DIGEST_LETTERS = 32
_KEY = (np.uint64(0x5441_5353_4552_4F4E), np.uint64(0x4252_4143_4B57_4154))
_START = tuple(
    np.uint64(word)
    for word in (0x736F6D6570736575, 0x646F72616E646F6D, 0x6C7967656E657261, 0x7465646279746573)
)
_LONG = 256
"""Longer texts are hashed by BLAKE2b first, one by one: there are few of them to the megabyte."""
_HEX = np.frombuffer(b"0123456789abcdef", np.uint8)


class _Sip:
    """The four words of the state of many hashes at once."""

    def __init__(self, count: int, halves: tuple[np.uint64, np.uint64] = _KEY):
        key = (halves[0], halves[1], halves[0], halves[1])
        self.v = [np.full(count, start ^ word, np.uint64) for start, word in zip(_START, key, strict=True)]
        self.v[1] ^= np.uint64(0xEE)

    def take_in(self, words: Any, count: int) -> None:
        """Take one word into each of the first `count` hashes."""
        part = [v[:count] for v in self.v]
        part[3] ^= words
        _round(part)
        _round(part)
        part[0] ^= words

    def finish(self) -> Digests:
        """Return the digests."""
        self.v[2] ^= np.uint64(0xEE)
        halves = []
        for _ in range(2):
            for _ in range(4):
                _round(self.v)
            halves.append(self.v[0] ^ self.v[1] ^ self.v[2] ^ self.v[3])
            self.v[1] ^= np.uint64(0xDD)
        return np.stack(halves, axis=1)


def _rotate(values: Any, bits: int) -> None:
    high = values << np.uint64(bits)
    values >>= np.uint64(64 - bits)
    values |= high


def _round(v: list[Any]) -> None:
    v[0] += v[1]
    _rotate(v[1], 13)
    v[1] ^= v[0]
    _rotate(v[0], 32)
    v[2] += v[3]
    _rotate(v[3], 16)
    v[3] ^= v[2]
    v[0] += v[3]
    _rotate(v[3], 21)
    v[3] ^= v[0]
    v[2] += v[1]
    _rotate(v[1], 17)
    v[1] ^= v[2]
    _rotate(v[2], 32)


def digest_words(columns: list[Any]) -> Digests:
    """Return the digest of each row of some columns of 64-bit words."""
    sip = _Sip(len(columns[0]))
    for column in columns:
        sip.take_in(column.astype(np.uint64), len(column))
    sip.take_in(np.uint64(8 * len(columns) % 256 << 56), len(columns[0]))
    return sip.finish()


def digest_texts(lane: TextLane, secret: bytes = b"") -> Digests:
    """Return the digest of each text, of its UTF-8 bytes; with a secret, the keyed one (a PRF then)."""
    lengths = lane.byte_lengths
    if len(lengths) and lengths.max() > _LONG:
        lane = _shortened(lane)
        lengths = lane.byte_lengths
    order = np.argsort(-lengths, kind="stable")
    # The lanes of a fragment share its bytes: only those of these texts may be touched.
    first, stop = lane.offsets[0], lane.offsets[-1]
    starts, lengths = lane.offsets[:-1][order] - first, lengths[order]
    data = np.concatenate((lane.data[first:stop], np.zeros(8, np.uint8)))
    sip = _Sip(len(order), _key_of(secret) if secret else _KEY)
    words = lengths // 8
    for step in range(int(words[0]) if len(words) else 0):
        count = int(np.searchsorted(-words, -step, side="left"))
        sip.take_in(_words(data, starts[:count] + 8 * step), count)
    sip.take_in(_last_words(data, starts + 8 * words, lengths), len(order))
    digests = np.empty((len(order), 2), np.uint64)
    digests[order] = sip.finish()
    return digests


def _key_of(secret: bytes) -> tuple[np.uint64, np.uint64]:
    low, high = np.frombuffer(hashlib.blake2b(secret, digest_size=16).digest(), "<u8")
    return np.uint64(low), np.uint64(high)


def _words(data: Any, at: Any) -> Any:
    return np.ascontiguousarray(data[at[:, None] + np.arange(8)]).view("<u8")[:, 0].astype(np.uint64)


def _last_words(data: Any, at: Any, lengths: Any) -> Any:
    rest = (lengths % 8).astype(np.uint64)
    mask = (np.uint64(1) << (np.uint64(8) * rest)) - np.uint64(1)
    return (_words(data, at) & mask) | ((lengths.astype(np.uint64) & np.uint64(255)) << np.uint64(56))


def _shortened(lane: TextLane) -> TextLane:
    texts = lane.to_arrow().cast(pa.large_binary())
    long = np.flatnonzero(lane.byte_lengths > _LONG)
    values = texts.take(pa.array(long)).to_pylist()
    short = [hashlib.blake2b(value, digest_size=32).digest() for value in values]
    indices = np.arange(len(texts))
    indices[long] = len(texts) + np.arange(len(long))
    both = pa.concat_arrays([texts, pa.array(short, pa.large_binary())]).take(pa.array(indices))
    _, offsets, data = both.buffers()
    return TextLane(np.frombuffer(offsets, np.int64)[: len(both) + 1], np.frombuffer(data, np.uint8))


def hex_of(digests: Digests) -> ArrowArray:
    """Return digests as an Arrow array of texts of 32 hexadecimal digits."""
    raw = digests.astype("<u8").view(np.uint8).reshape(len(digests), 16)
    letters = np.empty((len(digests), DIGEST_LETTERS), np.uint8)
    letters[:, 0::2], letters[:, 1::2] = _HEX[raw >> 4], _HEX[raw & 15]
    offsets = np.arange(len(digests) + 1, dtype=np.int64) * DIGEST_LETTERS
    return TextLane(offsets, letters.reshape(-1)).to_arrow()
