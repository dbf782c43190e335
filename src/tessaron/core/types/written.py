"""How values stand in the source: what a typed value has to be written like to be turned back.

A type has one spelling that goes without saying; only another one is kept, in a layout's `written`.
"""

from __future__ import annotations

import re
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from tessaron.core.base.arrays import ArrowArray
from tessaron.core.base.kinds import Kind
from tessaron.core.base.visible import in_quotes
from tessaron.core.types.column_types import ColumnType
from tessaron.core.types.number_digits import NumberStats
from tessaron.core.types.readings import Reading

SHORTEST, FIXED, POINT = "shortest", "fixed", "point"
"""Decimals without zeros at the end of the fraction; with all digits of the scale; as `shortest`, but with
one digit at least."""
_NUMBERS = (SHORTEST, FIXED, POINT)
_TIMES = ("time", "timestamp", "timestamp_tz")
_PATTERN = re.compile(
    r"(?:YYYY-MM-DD([T ]))?hh:mm(?::ss(?:\.(f{1,9}))?)?(Z|[+-](?:[01][0-9]|2[0-3]):[0-5][0-9])?\Z"
)
_SHOWN_UNITS = ("s", "ms", "us", "ns")


def written_decimal(numbers: NumberStats, integers: int) -> str:
    """Return how the numbers of a decimal column are written; empty where that goes without saying.

    Args:
        numbers: Their facts.
        integers: How many are written without a point.
    """
    if not numbers.trailing_zeros or numbers.exponents or integers:
        return ""
    if numbers.least_scale == numbers.most_scale:
        return FIXED
    return POINT if numbers.trailing_zeros == numbers.whole_points and numbers.least_scale else ""


def written_time(reading: Reading) -> str:
    """Return how times of a reading are written; empty where that goes without saying."""
    if reading.name not in _TIMES:
        return ""
    pattern = pattern_of(reading)
    return "" if pattern == pattern_of(reading_of("", reading.column_type())) else pattern


def pattern_of(reading: Reading) -> str:
    """Return the pattern of a reading, such as `YYYY-MM-DDThh:mm:ss.fff+01:00`."""
    date = "" if reading.name == "time" else f"YYYY-MM-DD{reading.separator}"
    seconds = "" if reading.second_digits < 0 else ":ss"
    fraction = "." + "f" * reading.second_digits if reading.second_digits > 0 else ""
    return f"{date}hh:mm{seconds}{fraction}{reading.zone}"


def reading_of(written: str, column_type: ColumnType) -> Reading:
    """Return the reading that a pattern stands for; for none the one that goes without saying."""
    found = _PATTERN.match(written)
    if found is None:
        zone = "Z" if column_type.name == "timestamp_tz" else ""
        separator = "" if column_type.name == "time" else "T"
        return Reading(_time_name(column_type), separator, column_type.second_digits, zone)
    separator, fraction, zone = found.groups()
    digits = len(fraction) if fraction else 0 if ":ss" in written else -1
    return Reading(_time_name(column_type), separator or "", digits, zone or "")


def _time_name(column_type: ColumnType) -> ArrowArray:
    return column_type.name


def fault_of(written: str, column_type: ColumnType) -> str:
    """Return what is wrong with a `written` of a layout, as a message; empty where nothing is."""
    if column_type.name in ("decimal", "double"):
        return (
            "" if written in _NUMBERS else f"expected one of {', '.join(_NUMBERS)}, got {in_quotes(written)}"
        )
    if column_type.name not in _TIMES:
        return f"written goes with decimal, double and times, not with {column_type}"
    found = _PATTERN.match(written)
    has_date, zone = (bool(found.group(1)), bool(found.group(3))) if found else (False, False)
    if found is None or has_date is (column_type.name == "time") or zone is not _has_zone(column_type):
        shown = pattern_of(reading_of("", column_type))
        return f"expected a pattern of {column_type}, such as {shown}, got {in_quotes(written)}"
    return ""


def _has_zone(column_type: ColumnType) -> bool:
    return column_type.name == "timestamp_tz"


def texts_of(
    values: ArrowArray, column_type: ColumnType, written: str = "", words: tuple[str, str] | None = None
) -> ArrowArray:
    """Return values of a type as they stand in the source.

    Args:
        values: An Arrow array of the type.
        column_type: The type.
        written: How they are written; empty for what goes without saying.
        words: For booleans: the words for true and for false.

    Returns:
        A `large_string` array, null where the values are.
    """
    match column_type.name:
        case "boolean":
            yes, no = words or ("true", "false")
            return pc.if_else(values, _text(yes), _text(no))
        case "decimal":
            return _decimals(values, column_type.scale, written)
        case "double":
            return _doubles(values, written)
        case "time" | "timestamp" | "timestamp_tz":
            return _times(values, reading_of(written, column_type))
        case "date":
            return _dates(values)
        case _:
            return values.cast(pa.large_string())


def _text(text: str) -> ArrowArray:
    return pa.scalar(text, pa.large_string())


def _join(*parts: ArrowArray) -> ArrowArray:
    return pc.binary_join_element_wise(*parts, _text(""))


def _decimals(values: ArrowArray, scale: int, written: str) -> ArrowArray:
    texts = _plain_digits(values, scale)
    return texts if written == FIXED or not scale else _shortened(texts, written)


def _plain_digits(values: ArrowArray, scale: int) -> ArrowArray:
    """Return decimals without an exponent, which Arrow writes where there are many zeros."""
    texts = values.cast(pa.large_string())
    odd = pc.match_substring(texts, "E")
    if not pc.any(odd).as_py():
        return texts
    plain = [None if value is None else f"{value:f}" for value in values.filter(odd).to_pylist()]
    return pc.replace_with_mask(texts, odd, pa.array(plain, pa.large_string()))


def _shortened(texts: ArrowArray, written: str) -> ArrowArray:
    """Return decimal texts without the zeros at the end of their fraction."""
    has_point = pc.match_substring(texts, ".")
    short = pc.utf8_rtrim(texts, "0")
    end = _text(".0") if written == POINT else _text("")
    whole = pc.ends_with(short, ".")
    short = pc.if_else(whole, _join(pc.utf8_rtrim(short, "."), end), short)
    return pc.if_else(has_point, short, texts)


def _doubles(values: ArrowArray, written: str) -> ArrowArray:
    """Return doubles as the shortest text that comes back; INF, -INF and NaN as XML Schema spells them."""
    texts = values.cast(pa.large_string())
    for shown, text in (("inf", "INF"), ("-inf", "-INF"), ("nan", "NaN"), ("-nan", "NaN")):
        odd = pc.equal(texts, shown)
        if pc.any(odd).as_py():
            texts = pc.if_else(odd, _text(text), texts)
    if written == POINT:
        whole = pc.invert(pc.match_substring_regex(texts, "[.eN]"))
        texts = pc.if_else(whole, _join(texts, _text(".0")), texts)
    return texts


def _dates(values: ArrowArray) -> ArrowArray:
    return values.cast(pa.large_string())


def _times(values: ArrowArray, reading: Reading) -> ArrowArray:
    digits = max(reading.second_digits, 0)
    if reading.name == "time":
        texts = values.cast(pa.large_string())
        start = 8
    else:
        texts = _shifted(values, reading.zone).cast(pa.large_string())
        start = 19
        if reading.separator != " ":
            texts = pc.replace_substring(texts, " ", reading.separator, max_replacements=1)
    unit_digits = {"s": 0, "ms": 3, "us": 6, "ns": 9}[values.type.unit]
    if reading.second_digits < 0:
        texts = pc.utf8_slice_codeunits(texts, 0, start - 3)
    elif digits == 0:
        texts = pc.utf8_slice_codeunits(texts, 0, start)
    elif digits <= unit_digits:
        texts = pc.utf8_slice_codeunits(texts, 0, start + 1 + digits)
    else:
        texts = _join(texts, _text(("." if not unit_digits else "") + "0" * (digits - unit_digits)))
    return _join(texts, _text(reading.zone)) if reading.zone else texts


def _shifted(values: ArrowArray, zone: str) -> ArrowArray:
    """Return timestamps without a zone, as clocks at an offset show them."""
    unit = values.type.unit
    plain = (
        values.cast(pa.timestamp(unit))
        if values.type.tz is None
        else values.cast(pa.int64()).cast(pa.timestamp(unit))
    )
    if zone in ("", "Z"):
        return plain
    seconds = int(zone[1:3]) * 3600 + int(zone[4:]) * 60
    seconds *= (-1 if zone[0] == "-" else 1) * 10 ** {"s": 0, "ms": 3, "us": 6, "ns": 9}[unit]
    return pc.add(plain.cast(pa.int64()), np.int64(seconds).item()).cast(pa.timestamp(unit))


def written_of(
    kind_counts: Any, numbers: NumberStats, column_type: ColumnType, reading: Reading | None
) -> str:
    """Return how the values of a column are written, from what was counted; empty for the usual."""
    if column_type.name == "decimal":
        return written_decimal(numbers, int(kind_counts[Kind.INTEGER] + kind_counts[Kind.LONG_INTEGER]))
    return written_time(reading) if reading is not None else ""
