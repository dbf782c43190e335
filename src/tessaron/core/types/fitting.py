"""Bringing values into a type set by hand: what fits, and which rows do not, in whole columns."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from tessaron.core.base.arrays import ArrowArray, ArrowType
from tessaron.core.base.text_lane import Bools, Int64s, TextLane
from tessaron.core.types.column_types import DECIMAL_DIGITS, DOUBLE_SAFE_INTEGER, ColumnType
from tessaron.core.types.date_formats import read_formatted
from tessaron.core.types.readings import SPECIAL_NUMBERS, read_any

_TRUE_FALSE = (("true", "false"), ("TRUE", "FALSE"), ("True", "False"))
_SPECIAL = pa.array(list(SPECIAL_NUMBERS), pa.large_string())
_SPECIAL_VALUES = pa.array(list(SPECIAL_NUMBERS.values()), pa.float64())
_UUID = r"^[0-9a-fA-F]{8}(-[0-9a-fA-F]{4}){3}-[0-9a-fA-F]{12}$"
_UNIT_MICROSECONDS = {"s": 1_000_000, "ms": 1_000, "us": 1}
_DAY_MICROSECONDS = 86_400_000_000


@dataclass(frozen=True, slots=True)
class Spelling:
    """How the values of a column are written, where the layout says so.

    Attributes:
        format: Codes of strptime, for dates and times.
        decimal: The sign before the fraction of a number.
        grouping: What stands between groups of three digits of a number; empty for nothing.
        words: The words for true and for false.
        unit: What numbers count since 1970-01-01T00:00Z: `s`, `ms` or `us`.
        zone: The time zone (IANA name or offset) of times that are written without one.
        of_markup: Whether they stand in XML, where 1 and 0 are booleans too (XML Schema part 2, 3.2.2).
    """

    format: str | None = None
    decimal: str = "."
    grouping: str = ""
    words: tuple[str, str] | None = None
    unit: str | None = None
    zone: str | None = None
    of_markup: bool = False

    @property
    def is_plain(self) -> bool:
        """Whether numbers and moments are written as JSON, XML Schema and ISO 8601 have them."""
        return (self.format, self.decimal, self.grouping, self.unit, self.zone) == (None, ".", "", None, None)


PLAIN = Spelling()


def fit_texts(texts: ArrowArray, target: ColumnType, spelling: Spelling = PLAIN) -> tuple[ArrowArray, Bools]:
    """Return texts in a type, null where one does not fit, and which of them do not.

    Args:
        texts: An Arrow array of `large_string` without nulls.
        target: The type.
        spelling: How they are written.
    """
    if not len(texts):
        return pa.nulls(0, target.arrow_type()), np.zeros(0, np.bool_)
    return _FROM_TEXT[target.name](texts, target, spelling)


def fits_type(text: str, target: ColumnType) -> bool:
    """Say whether one text is a value of a type."""
    return not fit_texts(pa.array([text], pa.large_string()), target)[1][0]


def fit_integers(values: Int64s, target: ColumnType, spelling: Spelling = PLAIN) -> tuple[ArrowArray, Bools]:
    """Return 64-bit integers in a type, null where one does not fit, and which of them do not."""
    none = np.zeros(len(values), np.bool_)
    if target.name == "integer":
        return pa.array(values), none
    if target.name in ("text", "json", "xml"):
        return pa.array(values).cast(pa.large_string()), none
    if target.name == "double":
        bad = np.abs(values) > DOUBLE_SAFE_INTEGER
        return pa.array(values.astype(np.float64), mask=bad), bad
    if target.name == "decimal":
        return _integers_as_decimals(values, target)
    if target.name in ("date", "timestamp", "timestamp_tz") and spelling.unit is not None:
        return _since_epoch(values, target, spelling)
    return fit_texts(pa.array(values).cast(pa.large_string()), target, spelling)


def fit_numbers(
    digits: ArrowArray, target: ColumnType, spelling: Spelling = PLAIN
) -> tuple[ArrowArray, Bools]:
    """Return numbers of JSON, given as their texts, in a type, and which of them do not fit."""
    if target.name in ("decimal", "double"):
        try:
            values = digits.cast(target.arrow_type())
        except pa.ArrowInvalid:
            return fit_texts(digits, target)
        if target.name == "decimal" or not pc.any(pc.is_inf(values)).as_py():
            return values, np.zeros(len(digits), np.bool_)
    return fit_texts(digits, target, Spelling(unit=spelling.unit, words=spelling.words))


def fit_booleans(values: Bools, target: ColumnType, spelling: Spelling = PLAIN) -> tuple[ArrowArray, Bools]:
    """Return booleans in a type, null where one does not fit, and which of them do not."""
    none = np.zeros(len(values), np.bool_)
    if target.name == "boolean":
        return pa.array(values), none
    if target.name in ("text", "json", "xml"):
        return pa.array(values).cast(pa.large_string()), none
    return pa.nulls(len(values), target.arrow_type()), ~none


def _masked(values: ArrowArray, bad: Bools) -> ArrowArray:
    return pc.if_else(pa.array(bad), pa.scalar(None, values.type), values) if bad.any() else values


def _as_is(texts: ArrowArray, target: ColumnType, spelling: Spelling) -> tuple[ArrowArray, Bools]:
    return texts, np.zeros(len(texts), np.bool_)


def _matching(texts: ArrowArray, pattern: str) -> Bools:
    found = pc.match_substring_regex(texts, pattern)
    return np.asarray(found.to_numpy(zero_copy_only=False))


def _cast_matching(texts: ArrowArray, pattern: str, target: ArrowType) -> tuple[ArrowArray, Bools]:
    fits = _matching(texts, pattern)
    chosen = texts if fits.all() else pc.if_else(pa.array(fits), texts, pa.scalar(None, pa.large_string()))
    return chosen.cast(target), ~fits


def _plain_numbers(texts: ArrowArray, spelling: Spelling) -> ArrowArray:
    """Return number texts with a point before the fraction and nothing between the digits."""
    if spelling.grouping:
        sign, point = re.escape(spelling.grouping), re.escape(spelling.decimal)
        grouped = f"^[+-]?[0-9]{{1,3}}({sign}[0-9]{{3}})+({point}[0-9]+)?$"
        fits = pc.match_substring_regex(texts, grouped)
        texts = pc.if_else(fits, pc.replace_substring(texts, spelling.grouping, ""), texts)
    if spelling.decimal != ".":
        # A point is no longer part of a number then; the other sign takes its place.
        texts = pc.replace_substring(texts, ".", "\0")
        texts = pc.replace_substring(texts, spelling.decimal, ".")
    return pc.replace_substring_regex(texts, r"^\+([0-9.])", r"\1")


def _to_integer(texts: ArrowArray, target: ColumnType, spelling: Spelling) -> tuple[ArrowArray, Bools]:
    texts = _plain_numbers(texts, spelling)
    texts = pc.replace_substring_regex(texts, r"^(-?)0+([0-9])", r"\1\2")
    whole = pc.replace_substring_regex(texts, r"^(-?[0-9]+)\.0+$", r"\1")
    exact = pa.decimal128(20, 0)
    values, bad = _cast_matching(whole, r"^-?[0-9]{1,19}$", exact)
    least, most = (pa.scalar(end, exact) for end in (-(2**63), 2**63 - 1))
    outside = pc.fill_null(pc.or_(pc.less(values, least), pc.greater(values, most)), False)
    too_large = outside.to_numpy(zero_copy_only=False)
    return _masked(values, too_large).cast(pa.int64()), bad | too_large


def _to_decimal(texts: ArrowArray, target: ColumnType, spelling: Spelling) -> tuple[ArrowArray, Bools]:
    texts = _plain_numbers(texts, spelling)
    texts = without_exponents(texts)
    texts = pc.replace_substring_regex(texts, r"^(-?)\.([0-9])", r"\10.\2")
    texts = pc.replace_substring_regex(texts, r"^(-?)0+([0-9])", r"\1\2")
    texts = pc.replace_substring_regex(texts, r"(\.[0-9]*[1-9])0+$|\.0+$", r"\1")
    whole, scale = target.precision - target.scale, target.scale
    fraction = rf"(\.[0-9]{{1,{scale}}})?" if scale else ""
    fits = _matching(texts, rf"^-?(0|[0-9]{{0,{whole}}}){fraction}$") & _matching(texts, "[0-9]$")
    chosen = pc.if_else(pa.array(fits), texts, pa.scalar(None, pa.large_string()))
    return chosen.cast(target.arrow_type()), ~fits


def without_exponents(texts: ArrowArray) -> ArrowArray:
    """Return number texts written out, where one has an exponent that a decimal can have; those are few."""
    texts = pc.replace_substring_regex(texts, r"^(-?0(\.0+)?)[eE][+-]?[0-9]+$", r"\1")
    has = _matching(texts, r"^-?([0-9]+(\.[0-9]+)?|\.[0-9]+)[eE][+-]?[0-9]{1,3}$")
    if not has.any():
        return texts
    from decimal import Decimal, InvalidOperation

    made = texts.to_pylist()
    for row in np.flatnonzero(has):
        try:
            made[row] = format(Decimal(made[row]), "f")
        except InvalidOperation:
            continue
    return pa.array(made, pa.large_string())


def _to_double(texts: ArrowArray, target: ColumnType, spelling: Spelling) -> tuple[ArrowArray, Bools]:
    texts = _plain_numbers(texts, spelling)
    pattern = r"^-?([0-9]+(\.[0-9]*)?|\.[0-9]+)([eE][+-]?[0-9]+)?$"
    values, bad = _cast_matching(texts, pattern, pa.float64())
    endless = pc.is_inf(values).fill_null(False).to_numpy(zero_copy_only=False)
    found = pc.index_in(texts, _SPECIAL)
    if found.null_count == len(texts):
        return _masked(values, endless), bad | endless
    # What is no finite number is spelled as XML Schema does (part 2, 3.2.5).
    values = pc.coalesce(_SPECIAL_VALUES.take(found), _masked(values, endless))
    return values, (bad | endless) & found.is_null().to_numpy(zero_copy_only=False)


def _to_boolean(texts: ArrowArray, target: ColumnType, spelling: Spelling) -> tuple[ArrowArray, Bools]:
    found = pc.index_in(texts, pa.array(boolean_words(spelling), pa.large_string()))
    bad = found.is_null().to_numpy(zero_copy_only=False)
    return pc.equal(pc.bit_wise_and(found, 1), 0), bad


def boolean_words(spelling: Spelling) -> tuple[str, ...]:
    """Return the words for true and for false, in turn."""
    pairs = _TRUE_FALSE + (("1", "0"),) * spelling.of_markup if spelling.words is None else (spelling.words,)
    return tuple(word for pair in pairs for word in pair)


def _to_uuid(texts: ArrowArray, target: ColumnType, spelling: Spelling) -> tuple[ArrowArray, Bools]:
    bad = ~_matching(texts, _UUID)
    return _masked(texts, bad), bad


def _to_date(texts: ArrowArray, target: ColumnType, spelling: Spelling) -> tuple[ArrowArray, Bools]:
    if spelling.unit is not None:
        return _texts_since_epoch(texts, target, spelling)
    if spelling.format is not None:
        micros, fits = read_formatted(texts, spelling.format)
        days = micros // _DAY_MICROSECONDS
    else:
        days, fits = read_any(TextLane.of(texts), "date", 0)
    return pa.array(days.astype(np.int32), mask=~fits).cast(pa.date32()), ~fits


def _to_time(texts: ArrowArray, target: ColumnType, spelling: Spelling) -> tuple[ArrowArray, Bools]:
    if spelling.format is not None:
        values, fits = read_formatted(texts, spelling.format)
        values = values % _DAY_MICROSECONDS
        values = values * 1000 if target.second_digits > 6 else values
    else:
        values, fits = read_any(TextLane.of(texts), "time", target.second_digits)
    return pa.array(values, mask=~fits).cast(target.arrow_type()), ~fits


def _to_timestamp(texts: ArrowArray, target: ColumnType, spelling: Spelling) -> tuple[ArrowArray, Bools]:
    if spelling.unit is not None:
        return _texts_since_epoch(texts, target, spelling)
    unit = "us" if target.second_digits <= 6 else "ns"
    if spelling.format is not None:
        values, fits = read_formatted(texts, spelling.format)
        values = values * 1000 if unit == "ns" else values
        is_local = "%z" not in spelling.format
    else:
        values, fits = read_any(TextLane.of(texts), target.name, target.second_digits)
        is_local = target.name == "timestamp"
        if target.name == "timestamp_tz" and spelling.zone is not None and not fits.all():
            return _with_local(texts, values, fits, target, spelling.zone)
    made = pa.array(values, mask=~fits)
    if target.name == "timestamp_tz" and is_local:
        return _in_zone(made.cast(pa.timestamp(unit)), ~fits, spelling.zone or "UTC", target)
    return made.cast(target.arrow_type()), ~fits


def _with_local(
    texts: ArrowArray, values: Int64s, fits: Bools, target: ColumnType, zone: str
) -> tuple[ArrowArray, Bools]:
    """Read the texts without an offset as local times of a zone."""
    local, is_local = read_any(TextLane.of(texts), "timestamp", target.second_digits)
    unit = "us" if target.second_digits <= 6 else "ns"
    naive = pa.array(local, mask=~is_local).cast(pa.timestamp(unit))
    moved, bad = _in_zone(naive, ~is_local, zone, target)
    made = pa.array(values, mask=~fits).cast(target.arrow_type())
    return pc.coalesce(made, moved), ~fits & bad


def _in_zone(local: ArrowArray, bad: Bools, zone: str, target: ColumnType) -> tuple[ArrowArray, Bools]:
    """Return local times of a zone as moments; one that the zone has not, or twice, does not fit."""
    try:
        made = pc.assume_timezone(local, zone)
    except pa.ArrowInvalid:
        early = pc.assume_timezone(local, zone, ambiguous="earliest", nonexistent="earliest")
        late = pc.assume_timezone(local, zone, ambiguous="latest", nonexistent="latest")
        same = pc.fill_null(pc.equal(early, late), True).to_numpy(zero_copy_only=False)
        made, bad = _masked(early, ~same), bad | ~same
    return made.cast(target.arrow_type()), bad


def _texts_since_epoch(texts: ArrowArray, target: ColumnType, spelling: Spelling) -> tuple[ArrowArray, Bools]:
    scaled = ColumnType("decimal", DECIMAL_DIGITS - 8, 9)
    exact, bad = _to_decimal(texts, scaled, spelling)
    factor = _UNIT_MICROSECONDS[spelling.unit or "s"] * (1000 if target.second_digits > 6 else 1)
    units = pc.multiply(exact.cast(pa.decimal256(39, 9)), pa.scalar(factor, pa.decimal256(12, 0)))
    whole = pc.equal(units, pc.trunc(units)).fill_null(True).to_numpy(zero_copy_only=False)
    numbers, kept = pc.trunc(units).cast(pa.decimal256(48, 0)), bad | ~whole
    limit = pa.scalar(2**62, numbers.type)
    too_large = pc.greater(pc.abs(numbers), limit).fill_null(False).to_numpy(zero_copy_only=False)
    kept |= too_large
    return _moments(*_with_digits(_masked(numbers, kept).cast(pa.int64()), kept, target), target)


def _since_epoch(values: Int64s, target: ColumnType, spelling: Spelling) -> tuple[ArrowArray, Bools]:
    factor = _UNIT_MICROSECONDS[spelling.unit or "s"] * (1000 if target.second_digits > 6 else 1)
    bad = np.abs(values.astype(np.float64)) * factor >= 2.0**62
    made = pa.array(np.where(bad, 0, values) * factor, mask=bad)
    return _moments(*_with_digits(made, bad, target), target)


def _with_digits(values: ArrowArray, bad: Bools, target: ColumnType) -> tuple[ArrowArray, Bools]:
    """Return moments without those that have more digits of the second than the type."""
    if target.name == "date":
        return values, bad
    step = 10 ** ((6 if target.second_digits <= 6 else 9) - target.second_digits)
    finer = values.fill_null(0).to_numpy(zero_copy_only=False) % step != 0
    return _masked(values, finer), bad | finer


def _moments(values: ArrowArray, bad: Bools, target: ColumnType) -> tuple[ArrowArray, Bools]:
    if target.name != "date":
        return values.cast(target.arrow_type()), bad
    days = np.floor_divide(values.fill_null(0).to_numpy(), _DAY_MICROSECONDS)
    return pa.array(days.astype(np.int32), mask=bad).cast(pa.date32()), bad


def _integers_as_decimals(values: Int64s, target: ColumnType) -> tuple[ArrowArray, Bools]:
    whole = target.precision - target.scale
    bad = np.zeros(len(values), np.bool_)
    if whole < 19:
        bad = (values >= 10**whole) | (values <= -(10**whole))
    exact = pa.array(np.where(bad, 0, values), mask=bad).cast(pa.decimal128(19, 0))
    return exact.cast(pa.decimal256(19 + target.scale, target.scale)).cast(target.arrow_type()), bad


_FROM_TEXT: dict[str, Callable[[Any, ColumnType, Spelling], tuple[Any, Bools]]] = {
    "text": _as_is, "json": _as_is, "xml": _as_is,
    "integer": _to_integer, "decimal": _to_decimal, "double": _to_double,
    "boolean": _to_boolean, "uuid": _to_uuid, "date": _to_date, "time": _to_time,
    "timestamp": _to_timestamp, "timestamp_tz": _to_timestamp,
}  # fmt: skip
