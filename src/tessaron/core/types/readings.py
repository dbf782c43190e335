"""What texts could be read as, and in which spelling: dates and times (ISO 8601), UUIDs, boolean words.

All texts of one length are looked at together, as a matrix of bytes, one row a text. A column only gets
a type if one *reading* fits all its texts, so that every value can be written again as it was.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from itertools import pairwise
from typing import Any, Literal

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from tessaron.core.base.arrays import ArrowArray
from tessaron.core.base.text_lane import Bools, Bytes, Int64s, TextLane
from tessaron.core.types.column_types import ColumnType

_DATE_LENGTH = 10
_MINUTE_LENGTH = 16
_SECOND_LENGTH = 19
_LONGEST = _SECOND_LENGTH + 1 + 9 + 6
_TAILS_TOLD_APART = 64
"""A column with more spellings of fraction and zone than this is text anyway."""
_DAYS_IN_MONTH = np.array([31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31])
_TIME_LENGTH, _UUID_LENGTH = 8, 36
_TIME_LENGTHS = frozenset((_TIME_LENGTH - 3, _TIME_LENGTH, *range(_TIME_LENGTH + 2, _TIME_LENGTH + 11)))
_DATED_LENGTHS = frozenset((_DATE_LENGTH, *range(_MINUTE_LENGTH, _LONGEST + 1)))
_LENGTHS = _TIME_LENGTHS | _DATED_LENGTHS | {_UUID_LENGTH}
_ZERO = ord("0")
BOOLEAN_WORDS = tuple(
    (form(yes), form(no))
    for yes, no in (("true", "false"), ("yes", "no"), ("y", "n"), ("t", "f"))
    for form in (str.lower, str.upper, str.capitalize)
    if len(yes) > 1 or form is not str.capitalize
)
"""Pairs of words for yes and no; a boolean column has both words of one pair, and no others."""
_ALL_WORDS = pa.array(sorted({word for pair in BOOLEAN_WORDS for word in pair}), pa.large_string())
_WORD_BYTES = frozenset(word.encode() for pair in BOOLEAN_WORDS for word in pair)
_FEW_TEXTS = 4
"""So few texts are looked at one by one."""
_FIRST_LETTERS: Bools = np.zeros(256, np.bool_)
_FIRST_LETTERS[[ord(word[0]) for pair in BOOLEAN_WORDS for word in pair]] = True
_LONGEST_WORD = max(len(word) for pair in BOOLEAN_WORDS for word in pair)
_NANOSECOND_YEARS = (1678, 2261)
"""The years that 64 bits of nanoseconds around 1970 cover in full."""


@dataclass(frozen=True, slots=True, order=True)
class Reading:
    """One way to read a text.

    Attributes:
        name: date, time, timestamp, timestamp_tz, uuid, boolean, or double (for INF, -INF and NaN).
        separator: What stands between date and time: `T` or a space. For a boolean: the word, or once the
            column is settled both words, as `true/false`.
        second_digits: Digits of the fraction of a second; -1 when the seconds are not written.
        zone: The offset as written: empty, `Z` or like `+01:00`.
    """

    name: Literal["date", "time", "timestamp", "timestamp_tz", "uuid", "boolean", "double"]
    separator: str = ""
    second_digits: int = 0
    zone: str = ""

    def column_type(self) -> ColumnType:
        """Return the type of a column whose texts all read so."""
        return ColumnType(self.name, second_digits=max(self.second_digits, 0))

    @property
    def byte_length(self) -> int:
        """The length of every text that reads so, in bytes."""
        if self.name in ("date", "uuid"):
            return _DATE_LENGTH if self.name == "date" else _UUID_LENGTH
        if self.name == "time":
            fraction = self.second_digits + 1 if self.second_digits > 0 else 0
            return _TIME_LENGTH + fraction if self.second_digits >= 0 else _TIME_LENGTH - 3
        if self.second_digits < 0:
            return _MINUTE_LENGTH + len(self.zone)
        fraction = self.second_digits + 1 if self.second_digits else 0
        return _SECOND_LENGTH + fraction + len(self.zone)


ONE_AND_ZERO = Reading("boolean", "1/0")
"""How booleans are read that XML Schema (part 2, 3.2.2) spells as digits."""
SPECIAL = Reading("double")
"""How texts read that stand for no finite number, as XML Schema spells them."""
SPECIAL_NUMBERS = {"INF": float("inf"), "-INF": float("-inf"), "NaN": float("nan")}
_SPECIAL = pa.array(list(SPECIAL_NUMBERS), pa.large_string())
_SPECIAL_FIRST, _LONGEST_SPECIAL = frozenset(b"IN-"), 4


def count_readings(lane: TextLane) -> tuple[dict[Reading, int], int]:
    """Return how many texts of `lane` each reading fits, and the length of the longest text in bytes.

    Texts that no reading fits are not counted.
    """
    counts: dict[Reading, int] = {}
    if len(lane) and len(lane.data) > lane.offsets[0] and lane.data[lane.offsets[0]] in _SPECIAL_FIRST:
        _count_special(lane, counts)
    if len(lane) <= _FEW_TEXTS:
        longest = _look_at_few(lane, counts)
        if longest is not None:
            return counts, longest
    lengths = lane.byte_lengths
    least, most = int(lengths.min()), int(lengths.max())
    if most <= _LONGEST_WORD and least and _FIRST_LETTERS[lane.data[lane.offsets[0]]]:
        _count_boolean_words(lane, counts)
    for length in _lengths_to_try(lengths, least, most):
        matrix = _matrix(lane, lengths, length)
        if length in _TIME_LENGTHS:
            _count_times(matrix, counts)
        if length == _UUID_LENGTH:
            _count_uuids(matrix, counts)
        if length not in _DATED_LENGTHS:
            continue
        dated = _are_dates(matrix)
        if not dated.any():
            continue
        if length == _DATE_LENGTH:
            counts[Reading("date")] = int(dated.sum())
        else:
            _count_timestamps(matrix[dated], counts)
    return counts, most


def _look_at_few(lane: TextLane, counts: dict[Reading, int]) -> int | None:
    """Count the boolean words of a few texts and return the length of the longest.

    Returns None when one has the length of something else to be read; arrays cost more than they save here.
    """
    offsets = lane.offsets.tolist()
    data = lane.data[offsets[0] : offsets[-1]].tobytes()
    texts = [data[start - offsets[0] : stop - offsets[0]] for start, stop in pairwise(offsets)]
    if any(len(text) in _LENGTHS and (text[2:3] == b":" or b"-" in text) for text in texts):
        return None
    if all(text in _WORD_BYTES for text in texts):
        for text in texts:
            reading = Reading("boolean", text.decode())
            counts[reading] = counts.get(reading, 0) + 1
    return max(map(len, texts), default=0)


def _lengths_to_try(lengths: Int64s, least: int, most: int) -> list[int]:
    if least > _UUID_LENGTH or most < _TIME_LENGTH - 3:
        return []
    if least == most:
        return [least] if least in _LENGTHS else []
    found = np.flatnonzero(np.bincount(lengths[lengths <= _UUID_LENGTH])).tolist()
    return [length for length in found if length in _LENGTHS]


def _count_boolean_words(lane: TextLane, counts: dict[Reading, int]) -> None:
    """Count the words if there is nothing else: only then can the column be boolean."""
    found = pc.value_counts(lane.to_arrow())
    if pc.all(pc.is_in(found.field(0), _ALL_WORDS)).as_py():
        for pair in found.to_pylist():
            counts[Reading("boolean", pair["values"])] = pair["counts"]


def _count_special(lane: TextLane, counts: dict[Reading, int]) -> None:
    """Count the words for what is no finite number, if there is nothing else."""
    if (
        int(lane.byte_lengths.max()) <= _LONGEST_SPECIAL
        and pc.all(pc.is_in(lane.to_arrow(), _SPECIAL)).as_py()
    ):
        counts[SPECIAL] = len(lane)


def _count_times(matrix: Bytes, counts: dict[Reading, int]) -> None:
    length = matrix.shape[1]
    count = int(_are_times(matrix).sum())
    if count:
        digits = -1 if length < _TIME_LENGTH else max(0, length - _TIME_LENGTH - 1)
        counts[Reading("time", second_digits=digits)] = count


def _are_times(matrix: Bytes) -> Bools:
    """Return which rows are times of the day, all of one length."""
    length = matrix.shape[1]
    fits = (matrix[:, 2] == ord(":")) & _digits(matrix, (0, 1, 3, 4))
    fits &= (_number(matrix, 0, 2) <= 23) & (_number(matrix, 3, 5) <= 59)
    if length >= _TIME_LENGTH and fits.any():
        fits &= (matrix[:, 5] == ord(":")) & _digits(matrix, (6, 7)) & (_number(matrix, 6, 8) <= 59)
    if length > _TIME_LENGTH:
        fits &= (matrix[:, 8] == ord(".")) & _digits(matrix, tuple(range(9, length)))
    return np.asarray(fits)


def _count_uuids(matrix: Bytes, counts: dict[Reading, int]) -> None:
    """Count UUIDs (RFC 9562) in lower case and in upper case apart."""
    dashes = (8, 13, 18, 23)
    fits: Bools = (matrix[:, dashes] == ord("-")).all(axis=1)
    if not fits.any():
        return
    rest = np.delete(matrix[fits], dashes, axis=1)
    digits = (rest - _ZERO) <= 9
    for zone, first in (("lower", ord("a")), ("upper", ord("A"))):
        letters = (rest - first) <= 5
        count = int((digits | letters).all(axis=1).sum())
        if zone == "upper":
            count -= int(digits.all(axis=1).sum())
        if count:
            counts[Reading("uuid", zone=zone)] = count


def _matrix(lane: TextLane, lengths: Int64s, length: int) -> npt.NDArray[np.uint8]:
    """Return the texts of one length as a matrix of bytes."""
    starts = lane.offsets[:-1]
    if len(lane) * length == int(lane.offsets[-1] - lane.offsets[0]) and (lengths == length).all():
        return lane.data[lane.offsets[0] : lane.offsets[-1]].reshape(-1, length)
    starts = starts[lengths == length]
    windows = np.lib.stride_tricks.sliding_window_view(lane.data, length)
    return np.asarray(windows[starts])


def _digits(matrix: Bytes, columns: tuple[int, ...]) -> Bools:
    """Return which rows have digits in all these columns."""
    fits: Bools = np.ones(len(matrix), np.bool_)
    for column in columns:
        fits &= (matrix[:, column] - _ZERO) <= 9
    return fits


def _number(matrix: Bytes, start: int, stop: int) -> npt.NDArray[np.int32]:
    value = np.zeros(len(matrix), np.int32)
    for column in range(start, stop):
        value = value * 10 + (matrix[:, column].astype(np.int32) - _ZERO)
    return value


def _are_dates(matrix: Bytes) -> Bools:
    """Return which rows begin with a date of the calendar, `YYYY-MM-DD`, from year 1."""
    fits = (matrix[:, 4] == ord("-")) & (matrix[:, 7] == ord("-"))
    if not fits.any():
        return np.asarray(fits)
    fits &= _digits(matrix, (0, 1, 2, 3, 5, 6, 8, 9))
    year, month, day = _number(matrix, 0, 4), _number(matrix, 5, 7), _number(matrix, 8, 10)
    fits &= (year >= 1) & (month >= 1) & (month <= 12) & (day >= 1)
    leap = (year % 4 == 0) & ((year % 100 != 0) | (year % 400 == 0))
    last = _DAYS_IN_MONTH[np.clip(month, 1, 12) - 1] + (leap & (month == 2))
    return np.asarray(fits & (day <= last))


def _count_timestamps(matrix: Bytes, counts: dict[Reading, int]) -> None:
    matrix = matrix[_have_minutes(matrix)]
    for _ in range(_TAILS_TOLD_APART):
        if not len(matrix):
            return
        reading = _reading_of(bytes(matrix[0]))
        same = _same_tail(matrix, reading) if reading else (matrix == matrix[0]).all(axis=1)
        if reading:
            counts[reading] = counts.get(reading, 0) + int(same.sum())
        matrix = matrix[~same]


def _have_minutes(matrix: Bytes) -> Bools:
    """Return which rows go on with hour and minute behind the date."""
    fits = ((matrix[:, 10] == ord("T")) | (matrix[:, 10] == ord(" "))) & (matrix[:, 13] == ord(":"))
    fits &= _digits(matrix, (11, 12, 14, 15))
    fits &= (_number(matrix, 11, 13) <= 23) & (_number(matrix, 14, 16) <= 59)
    return np.asarray(fits)


def _reading_of(text: bytes) -> Reading | None:
    """Return the reading of one text whose date and minutes are known to be right."""
    at, second_digits = _MINUTE_LENGTH, -1
    if text[at : at + 1] == b":":
        if not text[at + 1 : at + 3].isdigit() or int(text[at + 1 : at + 3]) > 59:
            return None
        at, second_digits = _SECOND_LENGTH, 0
        if text[at : at + 1] == b".":
            rest = text[at + 1 :]
            second_digits = len(rest) - len(rest.lstrip(b"0123456789"))
            at += 1 + second_digits
            if not 1 <= second_digits <= 9:
                return None
    zone = text[at:].decode("latin-1")
    if not _is_zone(zone) or (second_digits > 6 and not _in_nanoseconds(int(text[:4]))):
        return None
    return Reading("timestamp_tz" if zone else "timestamp", chr(text[10]), second_digits, zone)


def _is_zone(zone: str) -> bool:
    if zone in ("", "Z"):
        return True
    shaped = len(zone) == 6 and zone[0] in "+-" and zone[3] == ":" and (zone[1:3] + zone[4:]).isdigit()
    return shaped and zone != "-00:00" and int(zone[1:3]) <= 23 and int(zone[4:]) <= 59


def _in_nanoseconds(year: ArrowArray) -> ArrowArray:
    return (year >= _NANOSECOND_YEARS[0]) & (year <= _NANOSECOND_YEARS[1])


def _same_tail(matrix: Bytes, reading: Reading) -> Bools:
    """Return which rows have the separator, fraction digits and zone of `reading`, and real seconds."""
    fits = matrix[:, 10] == ord(reading.separator)
    if reading.second_digits >= 0:
        fits &= (matrix[:, 16] == ord(":")) & _digits(matrix, (17, 18)) & (_number(matrix, 17, 19) <= 59)
    if reading.second_digits > 0:
        columns = range(_SECOND_LENGTH + 1, _SECOND_LENGTH + 1 + reading.second_digits)
        fits &= (matrix[:, _SECOND_LENGTH] == ord(".")) & _digits(matrix, tuple(columns))
    if reading.second_digits > 6:
        fits &= _in_nanoseconds(_number(matrix, 0, 4))
    for column, character in enumerate(reading.zone, reading.byte_length - len(reading.zone)):
        fits &= matrix[:, column] == ord(character)
    return np.asarray(fits)


def _read_matrix(matrix: Bytes, reading: Reading) -> Int64s:
    if reading.name == "time":
        return _clock(matrix, 0, reading)
    days = days_of(_number(matrix, 0, 4), _number(matrix, 5, 7), _number(matrix, 8, 10))
    if reading.name == "date":
        return days
    unit_digits = 6 if reading.second_digits <= 6 else 9
    seconds = days * 86400 - _zone_seconds(reading.zone)
    return np.asarray(seconds * 10**unit_digits + _clock(matrix, _DATE_LENGTH + 1, reading))


def read_any(lane: TextLane, name: str, second_digits: int) -> tuple[Int64s, Bools]:
    """Return the values of texts in whatever ISO 8601 spelling each has, and which texts have one.

    Args:
        lane: The texts.
        name: date, time, timestamp (no offset) or timestamp_tz (an offset, or `Z`).
        second_digits: Digits of the second that a value may have, zeros at the end aside.

    Returns:
        For a date, days since 1970-01-01; for a time, microseconds since midnight; else microseconds since
        1970-01-01T00:00, in UTC when it has a zone. Nanoseconds if `second_digits` is above 6. And a mask.
    """
    values, fits = np.zeros(len(lane), np.int64), np.zeros(len(lane), np.bool_)
    lengths = lane.byte_lengths
    known = _LENGTHS_OF.get(name, _DATED_LENGTHS - {_DATE_LENGTH})
    for length in sorted(known & set(np.unique(lengths).tolist())):
        rows = np.flatnonzero(lengths == length)
        matrix = _matrix(lane, lengths, length)
        for reading, same in _readings_in(matrix, name):
            if reading.name != name:
                continue
            chosen = matrix[same]
            stop = reading.byte_length - len(reading.zone)
            extra = max(0, reading.second_digits - second_digits)
            fine = (chosen[:, stop - extra : stop] == _ZERO).all(axis=1)
            found = _read_matrix(chosen[fine], reading)
            if name != "date" and second_digits > 6 >= reading.second_digits:
                found = found * 1000
            elif second_digits <= 6 < reading.second_digits:
                found = found // 1000
            values[rows[same[fine]]] = found
            fits[rows[same[fine]]] = True
    return values, fits


_LENGTHS_OF = {"date": frozenset((_DATE_LENGTH,)), "time": _TIME_LENGTHS}


def _readings_in(matrix: Bytes, name: str) -> Iterator[tuple[Reading, Int64s]]:
    """Yield the readings of texts of one length, each with the rows that have it."""
    if name == "time":
        length = matrix.shape[1]
        digits = -1 if length < _TIME_LENGTH else max(0, length - _TIME_LENGTH - 1)
        yield Reading("time", second_digits=digits), np.flatnonzero(_are_times(matrix))
        return
    left = np.flatnonzero(_are_dates(matrix))
    if name == "date":
        yield Reading("date"), left
        return
    left = left[_have_minutes(matrix[left])]
    while len(left):
        part = matrix[left]
        reading = _reading_of(bytes(part[0]))
        same = _same_tail(part, reading) if reading else (part == part[0]).all(axis=1)
        if reading:
            yield reading, left[same]
        left = left[~same]


def _clock(matrix: Bytes, start: int, reading: Reading) -> Int64s:
    """Return the time of day that begins in column `start`, in the unit of `read_any`."""
    unit_digits = 6 if reading.second_digits <= 6 else 9
    seconds = _number(matrix, start, start + 2).astype(np.int64) * 3600
    seconds += _number(matrix, start + 3, start + 5) * 60
    if reading.second_digits >= 0:
        seconds += _number(matrix, start + 6, start + 8)
    if reading.second_digits <= 0:
        return np.asarray(seconds * 10**unit_digits)
    first = start + _TIME_LENGTH + 1
    fraction = _number(matrix, first, first + reading.second_digits).astype(np.int64)
    return np.asarray(seconds * 10**unit_digits + fraction * 10 ** (unit_digits - reading.second_digits))


def _zone_seconds(zone: str) -> int:
    if zone in ("", "Z"):
        return 0
    seconds = int(zone[1:3]) * 3600 + int(zone[4:]) * 60
    return -seconds if zone[0] == "-" else seconds


def days_of(year: Any, month: Any, day: Any) -> Int64s:
    """Return days since 1970-01-01 of dates of the Gregorian calendar.

    Counts from 1 March of year 0, so that the leap day comes last: 365 days a year, a day more every 4th
    but not every 100th year but every 400th; months of 153 days in five.
    """
    year = year.astype(np.int64) - (month <= 2)
    day_of_year = (153 * ((month + 9) % 12) + 2) // 5 + day - 1
    return np.asarray(year * 365 + year // 4 - year // 100 + year // 400 + day_of_year - 719468)
