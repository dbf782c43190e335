"""Texts that look like something else: numbers, dates, JSON, placeholders for null, personal data.

A cheap look at first and last bytes and lengths, on whole columns, leaves few texts for the exact tests.
"""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from tessaron.core.base.text_lane import Bools, Bytes, Int64s, TextLane

PLACEHOLDERS = (
    "", "-", "--", "?", ".", "N/A", "n/a", "NA", "#N/A", "null", "NULL", "Null", "none", "None", "NONE",
    "nil", "NaN", "unknown", "Unknown", "UNKNOWN", "tbd", "TBD", "9999-12-31", "1900-01-01", "0000-00-00",
    "9999-12-31T23:59:59", "9999-12-31T00:00:00",
)  # fmt: skip
"""Texts that often stand for null."""

_PLACEHOLDERS = pa.array(PLACEHOLDERS, pa.large_string())
_PLACEHOLDER_LENGTHS = np.array(sorted({len(text) for text in PLACEHOLDERS}))
_NUMBER = r"^-?(0|[1-9][0-9]*)(\.[0-9]+)?([eE][-+]?[0-9]+)?$"
_GROUPED = (
    r"^-?([0-9]{1,3}([ '\x{00a0}\x{202f}][0-9]{3})+([.,][0-9]+)?|[0-9]{1,3}(\.[0-9]{3})+,[0-9]+"
    r"|[0-9]{1,3}(,[0-9]{3})+\.[0-9]+|[0-9]+,[0-9]+)$"
)
"""Numbers as people write them: with a comma, or in groups of three."""
_DAY_FIRST = r"^[0-9]{1,2}([/.-])[0-9]{1,2}[/.-]([0-9]{4}|[0-9]{2})( [0-9:]+)?$"
_AMBIGUOUS = r"^(0?[1-9]|1[0-2])[/.-](0?[1-9]|1[0-2])[/.-]([0-9]{4}|[0-9]{2})( [0-9:]+)?$"
_EMAIL = r"^[^@\s]+@[^@\s]+\.[A-Za-z]{2,}$"
_PHONE = r"^(\+[0-9]{1,3}|\(?0[0-9]{1,5}\)?)[ ./-]?[0-9]{2,}([ ./-]?[0-9]{2,})*$"
_CARD = r"^[0-9]{4}[ -]?[0-9]{4}[ -]?[0-9]{4}[ -]?[0-9]{1,7}$"
_MOST_JSON_TRIED = 1_000


@dataclass(frozen=True, slots=True)
class _Lane:
    """Different texts, with what the cheap looks need."""

    texts: TextLane
    lengths: Int64s
    first: Bytes
    last: Bytes

    def exact(self, some: Bools, pattern: str) -> Bools:
        """Return which of some texts match a pattern."""
        at = np.flatnonzero(some)
        if len(at):
            fits = pc.match_substring_regex(self.texts.to_arrow().take(pa.array(at)), pattern)
            some = np.zeros(len(some), np.bool_)
            some[at] = fits.to_numpy(zero_copy_only=False)
        return some


def count_suspects(texts: TextLane, counts: Int64s, are_read: bool = False) -> Iterator[tuple[str, int, str]]:
    """Yield what texts look like: the name of it, how many do, and the first that does.

    Args:
        texts: Different texts.
        counts: How often each occurs.
        are_read: Whether all are dates or the like, which need no further look but for placeholders.
    """
    lengths = texts.byte_lengths
    filled = lengths > 0
    first, last = np.zeros(len(texts), np.uint8), np.zeros(len(texts), np.uint8)
    first[filled] = texts.data[texts.offsets[:-1][filled]]
    last[filled] = texts.data[texts.offsets[1:][filled] - 1]
    lane = _Lane(texts, lengths, first, last)
    for name, look in _LOOKS.items():
        if are_read and name not in _ALSO_DATED:
            continue
        fits = look(lane)
        if fits.any():
            at = int(np.argmax(fits))
            yield name, int(counts[fits].sum()), texts.to_arrow()[at].as_py()


def _digits(values: Bytes) -> Bools:
    return np.asarray((values - ord("0")) <= 9)


def _placeholders(lane: _Lane) -> Bools:
    some = np.isin(lane.lengths, _PLACEHOLDER_LENGTHS)
    at = np.flatnonzero(some)
    if len(at):
        found = pc.is_in(lane.texts.to_arrow().take(pa.array(at)), _PLACEHOLDERS)
        some[at] = found.to_numpy(zero_copy_only=False)
    return some


def _spaced(lane: _Lane) -> Bools:
    return np.asarray((lane.lengths > 0) & ((lane.first <= ord(" ")) | (lane.last <= ord(" "))))


def _numbers(lane: _Lane) -> Bools:
    return lane.exact((_digits(lane.first) | (lane.first == ord("-"))) & _digits(lane.last), _NUMBER)


def _grouped_numbers(lane: _Lane) -> Bools:
    begins = _digits(lane.first) | (lane.first == ord("-"))
    return lane.exact(begins & _digits(lane.last) & (lane.lengths >= 3) & (lane.lengths <= 40), _GROUPED)


def _dates(lane: _Lane) -> Bools:
    return lane.exact((lane.lengths <= 19) & _digits(lane.first) & _digits(lane.last), _DAY_FIRST)


def _ambiguous(lane: _Lane) -> Bools:
    return lane.exact((lane.lengths <= 19) & _digits(lane.first) & _digits(lane.last), _AMBIGUOUS)


def _json(lane: _Lane) -> Bools:
    some = ((lane.first == ord("{")) & (lane.last == ord("}"))) | (
        (lane.first == ord("[")) & (lane.last == ord("]"))
    )
    at = np.flatnonzero(some)
    texts = lane.texts.to_arrow().take(pa.array(at[:_MOST_JSON_TRIED])).to_pylist()
    some[at[:_MOST_JSON_TRIED]] = [_is_json(text) for text in texts]
    return np.asarray(some)


def _is_json(text: str) -> bool:
    try:
        json.loads(text)
    except (ValueError, RecursionError):
        return False
    return True


def _emails(lane: _Lane) -> Bools:
    start, stop = lane.texts.offsets[0], lane.texts.offsets[-1]
    if not (lane.texts.data[start:stop] == ord("@")).any():
        return np.zeros(len(lane.lengths), np.bool_)
    return lane.exact(lane.lengths > 5, _EMAIL)


def _phones(lane: _Lane) -> Bools:
    begins = (lane.first == ord("+")) | (lane.first == ord("0")) | (lane.first == ord("("))
    some = lane.exact(begins & _digits(lane.last) & (lane.lengths >= 8) & (lane.lengths <= 24), _PHONE)
    return _but(lane, some, lambda text: 8 <= sum(map(str.isdigit, text)) <= 15 and not text.isdigit())


def _cards(lane: _Lane) -> Bools:
    some = _digits(lane.first) & _digits(lane.last) & (lane.lengths >= 13) & (lane.lengths <= 23)
    return _but(lane, lane.exact(some, _CARD), _passes_luhn)


def _but(lane: _Lane, some: Bools, test: Callable[[str], bool]) -> Bools:
    """Return which of some texts, few of them as a rule, pass a test of their own."""
    at = np.flatnonzero(some)
    texts = lane.texts.to_arrow().take(pa.array(at)).to_pylist()
    some[at] = [test(text) for text in texts]
    return some


def _passes_luhn(text: str) -> bool:
    """Say whether the check digit of a card number is right (ISO/IEC 7812-1, annex B)."""
    digits = [int(character) for character in re.sub(r"\D", "", text)]
    doubled = [2 * digit - 9 * (digit > 4) for digit in digits[-2::-2]]
    return 13 <= len(digits) <= 19 and any(digits) and (sum(doubled) + sum(digits[::-2])) % 10 == 0


_LOOKS: dict[str, Callable[[_Lane], Bools]] = {
    "placeholder": _placeholders,
    "surrounding spaces": _spaced,
    "number": _numbers,
    "grouped number": _grouped_numbers,
    "date": _dates,
    "ambiguous date": _ambiguous,
    "JSON": _json,
    "e-mail address": _emails,
    "phone number": _phones,
    "card number": _cards,
}
_ALSO_DATED = frozenset(("placeholder",))
"""What is looked for also among texts that are all dates or the like."""
