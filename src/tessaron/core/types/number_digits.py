"""What the number texts of a column need: digits before and after the point, and whether a double will do."""

from __future__ import annotations

from dataclasses import dataclass
from decimal import Decimal

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from tessaron.core.base.arrays import ArrowArray
from tessaron.core.base.text_lane import TextLane

_POINT, _MINUS, _ZERO = ord("."), ord("-"), ord("0")
_SURE_DOUBLE_DIGITS = 15
"""Decimal numbers of so many digits come back unchanged from a double (IEEE 754, 53-bit significand)."""
_EXPONENT_CHARACTERS = 5
"""Longer exponents, sign included, are beyond any column type."""
OUT_OF_REACH = 10**6
"""A digit count that no decimal column has: says that a number is too large or too fine for any."""


@dataclass(frozen=True, slots=True)
class NumberStats:
    """What the number texts met at one path need, all together. Merges in any order.

    Attributes:
        count: Number texts seen.
        whole_digits: The most digits before the decimal point, at least 1.
        least_scale, most_scale: Fewest and most digits after the decimal point.
        trailing_zeros: Texts whose fraction ends in a zero digit.
        whole_points: Texts whose fraction is one zero, as in `12.0`; they count as trailing zeros too.
        exponents: Texts with an exponent.
        negative_zeros: Texts that are a zero with a minus sign; a decimal has none.
        lossy_doubles: Texts that would not come back from a double.
    """

    count: int = 0
    whole_digits: int = 0
    least_scale: int = OUT_OF_REACH
    most_scale: int = 0
    trailing_zeros: int = 0
    negative_zeros: int = 0
    lossy_doubles: int = 0
    whole_points: int = 0
    exponents: int = 0

    def merge(self, other: NumberStats) -> NumberStats:
        """Return what both need together."""
        return NumberStats(
            self.count + other.count,
            max(self.whole_digits, other.whole_digits),
            min(self.least_scale, other.least_scale),
            max(self.most_scale, other.most_scale),
            self.trailing_zeros + other.trailing_zeros,
            self.negative_zeros + other.negative_zeros,
            self.lossy_doubles + other.lossy_doubles,
            self.whole_points + other.whole_points,
            self.exponents + other.exponents,
        )


NO_NUMBERS = NumberStats()


def measure_numbers(lane: TextLane) -> NumberStats:
    """Return what the number texts of `lane` need (RFC 8259 section 6 spelling)."""
    if not len(lane):
        return NO_NUMBERS
    texts = lane.to_arrow()
    with_exponent = pc.match_substring_regex(texts, "[eE]")
    if not pc.any(with_exponent).as_py():
        return _measure_plain(lane)
    plain = TextLane.of(texts.filter(pc.invert(with_exponent)))
    stats = _measure_exponents(texts.filter(with_exponent))
    return stats.merge(_measure_plain(plain)) if len(plain) else stats


def _measure_plain(lane: TextLane) -> NumberStats:
    starts, ends = lane.offsets[:-1], lane.offsets[1:]
    negative = lane.data[starts] == _MINUS
    window = lane.data[starts[0] : ends[-1]]
    points = np.flatnonzero(window == _POINT) + starts[0]
    scales = np.zeros(len(lane), np.int64)
    owners = np.searchsorted(ends, points, side="right")
    scales[owners] = ends[owners] - points - 1
    wholes = ends - starts - negative - scales - (scales > 0)
    trailing = (scales > 0) & (lane.data[ends - 1] == _ZERO)
    zeros = np.zeros(len(lane), np.bool_)
    if negative.any():
        zeros[negative] = _are_zero(lane, np.flatnonzero(negative))
    unsure = np.flatnonzero(wholes + scales > _SURE_DOUBLE_DIGITS)
    return NumberStats(
        len(lane),
        int(wholes.max()),
        int(scales.min()),
        int(scales.max()),
        int(trailing.sum()),
        int(zeros.sum()),
        _count_lossy(lane.to_arrow().take(pa.array(unsure))) if len(unsure) else 0,
        int((trailing & (scales == 1)).sum()),
    )


def _are_zero(lane: TextLane, indices: npt.NDArray[np.int64]) -> npt.NDArray[np.bool_]:
    """Return which of the texts are zero: no digit but `0`."""
    texts = lane.to_arrow().take(pa.array(indices))
    return np.asarray(pc.invert(pc.match_substring_regex(texts, "[1-9]")).to_numpy(zero_copy_only=False))


def _count_lossy(texts: pa.Array) -> int:
    return int(are_lossy(texts).sum())


def are_lossy(texts: pa.Array) -> npt.NDArray[np.bool_]:
    """Return which number texts do not come back from a double; odd spellings are looked at one by one."""
    back = pc.cast(pc.cast(texts, pa.float64()), pa.large_string())
    odd = np.asarray(pc.not_equal(texts, back).to_numpy(zero_copy_only=False)).astype(np.bool_)
    for index in np.flatnonzero(odd).tolist():
        odd[index] = not _is_exact_double(texts[index].as_py())
    return odd


def _is_exact_double(text: str) -> bool:
    return Decimal(text) == Decimal(repr(float(text))) if abs(float(text)) != float("inf") else False


def _measure_exponents(texts: pa.Array) -> NumberStats:
    parts = pc.extract_regex(
        pc.utf8_lower(texts), r"^-?(?P<whole>\d+)(?:\.(?P<part>\d+))?e\+?(?P<shift>-?\d+)$"
    )
    whole, part, shift = (parts.field(index) for index in range(3))
    in_reach = pc.less_equal(pc.binary_length(shift), _EXPONENT_CHARACTERS)
    shifts = _int64(pc.cast(pc.if_else(in_reach, shift, "0"), pa.int64()))
    fractions = _int64(pc.binary_length(part))
    zero = _bools(pc.invert(pc.match_substring_regex(texts, "^-?[0.]*[1-9]")))
    scales = np.maximum(fractions - shifts, 0)
    wholes = np.maximum(_int64(pc.binary_length(whole)) + shifts, 1)
    out = ~_bools(in_reach) & ~zero
    wholes[zero], wholes[out] = 1, OUT_OF_REACH
    scales[zero & (scales > fractions)] = 0
    return NumberStats(
        len(texts),
        int(wholes.max()),
        int(scales.min()),
        int(scales.max()),
        0,
        int((zero & _bools(pc.starts_with(texts, "-"))).sum()),
        sum(1 for text in texts.filter(pa.array(~zero & ~out)).to_pylist() if not _is_exact_double(text))
        + int(out.sum()),
        exponents=len(texts),
    )


def _int64(array: ArrowArray) -> npt.NDArray[np.int64]:
    return np.array(array.to_numpy(zero_copy_only=False), np.int64)


def _bools(array: ArrowArray) -> npt.NDArray[np.bool_]:
    return np.array(array.to_numpy(zero_copy_only=False), np.bool_)
