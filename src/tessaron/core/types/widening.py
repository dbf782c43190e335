"""The type that holds the values of two others, as far as every value can still be turned back from it."""

from __future__ import annotations

from tessaron.core.types.column_types import DOUBLE, TEXT, ColumnType

_INTEGER_DIGITS, _MOST_DIGITS = 19, 38
_NUMBERS = ("integer", "decimal", "double")
_TIMES = ("time", "timestamp", "timestamp_tz")
_TEXTS = ("date", "uuid", "text")
"""Whose values are texts that are written alike in a column of texts."""


def wider_type(old: ColumnType, new: ColumnType) -> ColumnType | None:
    """Return the type that holds the values of both.

    Numbers widen among numbers, and what is a text in the documents to text, where it is written as it was.
    None where values of one would become something else: numbers and texts, times that are written otherwise.
    """
    if old == new:
        return old
    if old.name in _NUMBERS and new.name in _NUMBERS:
        return _wider_number(old, new)
    if old.name == new.name and old.name in _TIMES:
        return max(old, new, key=lambda each: each.second_digits)
    if old.name in _TEXTS and new.name in (*_TEXTS, *_TIMES):
        return TEXT
    return None


def _wider_number(old: ColumnType, new: ColumnType) -> ColumnType:
    if "double" in (old.name, new.name):
        return DOUBLE
    whole = max(_whole_digits(old), _whole_digits(new))
    scale = max(old.scale, new.scale)
    return ColumnType("decimal", whole + scale, scale) if whole + scale <= _MOST_DIGITS else DOUBLE


def _whole_digits(kind: ColumnType) -> int:
    return _INTEGER_DIGITS if kind.name == "integer" else kind.precision - kind.scale
