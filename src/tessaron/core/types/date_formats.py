"""Dates and times by a format of strptime codes: fixed widths as matrices of bytes, the rest by value."""

from __future__ import annotations

import re
from datetime import UTC, datetime, timedelta
from functools import cache

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from tessaron.core.base.text_lane import Bools, Bytes, Int64s, TextLane
from tessaron.core.base.visible import in_quotes
from tessaron.core.types.readings import days_of

CODES = frozenset("aAbBdfHIjmMpSyYzZ%")
_WIDTHS = {"d": 2, "m": 2, "Y": 4, "y": 2, "H": 2, "M": 2, "S": 2}
_EPOCH = datetime(1970, 1, 1)
_ZERO = ord("0")
_DAYS_IN_MONTH = np.array([31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31])


class DateFormatError(ValueError):
    """A format with a code that there is not."""


@cache
def parts_of_format(codes: str) -> tuple[str, ...]:
    """Return the parts of a format: `%d` and the like, and the characters between them.

    Raises:
        DateFormatError: For a code that there is not.
    """
    parts = re.findall(r"%.?|[^%]", codes, re.DOTALL)
    for part in parts:
        if part[0] == "%" and part[1:] not in CODES:
            raise DateFormatError(
                f"expected codes of %Y %m %d %H %M %S %f %y %b %B %a %A %I %p %j %z %Z, got {in_quotes(part)}"
            )
    if not any(part[0] == "%" and part != "%%" for part in parts):
        raise DateFormatError(f"expected codes such as %d/%m/%Y, got {in_quotes(codes)}")
    return tuple(parts)


def read_formatted(texts: pa.Array, codes: str) -> tuple[Int64s, Bools]:
    """Return microseconds since 1970-01-01T00:00 of texts by a format, and which texts fit it.

    A time alone counts from midnight. With `%z` the values are in UTC.
    """
    values, fits = np.zeros(len(texts), np.int64), np.zeros(len(texts), np.bool_)
    lane = TextLane.of(texts)
    parts = parts_of_format(codes)
    if all(part[0] != "%" or part[1] in _WIDTHS for part in parts):
        values, fits = _read_fixed(lane, parts)
    rest = np.flatnonzero(~fits)
    if len(rest):
        _read_by_value(texts, rest, codes, values, fits)
    return values, fits


def _read_fixed(lane: TextLane, parts: tuple[str, ...]) -> tuple[Int64s, Bools]:
    """Read the texts that have the full width of every code."""
    values, fits = np.zeros(len(lane), np.int64), np.zeros(len(lane), np.bool_)
    length = sum(_WIDTHS[part[1]] if part[0] == "%" else len(part.encode()) for part in parts)
    rows = np.flatnonzero(lane.byte_lengths == length)
    if not len(rows):
        return values, fits
    windows = lane.offsets[:-1][rows][:, None] + np.arange(length)
    matrix = lane.data[windows]
    good = np.ones(len(rows), np.bool_)
    fields: dict[str, npt.NDArray[np.int64]] = {}
    at = 0
    for part in parts:
        width = _WIDTHS[part[1]] if part[0] == "%" else len(part.encode())
        columns = matrix[:, at : at + width]
        if part[0] == "%":
            good &= ((columns - _ZERO) <= 9).all(axis=1)
            fields[part[1]] = _number(columns)
        else:
            good &= (columns == np.frombuffer(part.encode(), np.uint8)).all(axis=1)
        at += width
    micros, real = _assembled(fields, len(rows))
    good &= real
    values[rows[good]], fits[rows[good]] = micros[good], True
    return values, fits


def _number(columns: Bytes) -> Int64s:
    value = np.zeros(len(columns), np.int64)
    for index in range(columns.shape[1]):
        value = value * 10 + (columns[:, index].astype(np.int64) - _ZERO)
    return value


def _assembled(fields: dict[str, Int64s], count: int) -> tuple[Int64s, Bools]:
    """Return the microseconds of fields, and which of them are real dates and times."""
    ones, zeros = np.ones(count, np.int64), np.zeros(count, np.int64)
    year = fields.get("Y")
    if year is None:
        short = fields.get("y")
        # POSIX: 69 to 99 are in the 1900s.
        year = np.full(count, 1970) if short is None else np.where(short < 69, 2000 + short, 1900 + short)
    month, day = fields.get("m", ones), fields.get("d", ones)
    hour, minute, second = (fields.get(code, zeros) for code in "HMS")
    real = (year >= 1) & (month >= 1) & (month <= 12) & (day >= 1)
    leap = (year % 4 == 0) & ((year % 100 != 0) | (year % 400 == 0))
    real &= day <= _DAYS_IN_MONTH[np.clip(month, 1, 12) - 1] + (leap & (month == 2))
    real &= (hour <= 23) & (minute <= 59) & (second <= 59)
    seconds = days_of(year, month, day) * 86400 + hour * 3600 + minute * 60 + second
    return seconds * 1_000_000, np.asarray(real)


def _read_by_value(texts: pa.Array, rows: Int64s, codes: str, values: Int64s, fits: Bools) -> None:
    """Read each distinct text with the library; months and days have their English names."""
    encoded = texts.take(pa.array(rows)).dictionary_encode()
    found = [_read_one(text, codes) for text in encoded.dictionary.to_pylist()]
    known = np.array([value is not None for value in found], np.bool_)
    numbers = np.array([value or 0 for value in found], np.int64)
    index = encoded.indices.to_numpy()
    values[rows], fits[rows] = numbers[index], known[index]


def _read_one(text: str, codes: str) -> int | None:
    try:
        moment = datetime.strptime(text, codes)
    except ValueError:
        return None
    if moment.tzinfo is not None:
        moment = moment.astimezone(UTC).replace(tzinfo=None)
    if not any(code in codes for code in ("%Y", "%y")):
        moment = moment.replace(year=1970)
    span: timedelta = moment - _EPOCH
    return (span.days * 86400 + span.seconds) * 1_000_000 + span.microseconds
