"""Column types: what a column is, apart from any file format or database."""

from __future__ import annotations

import re
from dataclasses import dataclass
from difflib import get_close_matches
from typing import Literal, get_args

import pyarrow as pa

from tessaron.core.base.arrays import ArrowArray, ArrowType
from tessaron.core.base.visible import in_quotes

TypeName = Literal[
    "boolean",
    "integer",
    "decimal",
    "double",
    "text",
    "date",
    "timestamp",
    "timestamp_tz",
    "time",
    "uuid",
    "json",
    "xml",
]

TYPE_NAMES: tuple[TypeName, ...] = get_args(TypeName)


@dataclass(frozen=True, slots=True)
class ColumnType:
    """The type of one column.

    Attributes:
        name: One of `TypeName`.
        precision: Only decimal: all digits, 1 to 38.
        scale: Only decimal: digits after the point, 0 to `precision`.
        second_digits: Only time, timestamp and timestamp_tz: digits of the fraction of a second, 0 to 9.
    """

    name: TypeName
    precision: int = 0
    scale: int = 0
    second_digits: int = 0

    def __str__(self) -> str:
        return f"decimal({self.precision},{self.scale})" if self.name == "decimal" else self.name

    def spelled(self) -> str:
        """Return how a layout spells the type, digits of the second included: `timestamp(3)`."""
        return f"{self.name}({self.second_digits})" if self.second_digits else str(self)

    def arrow_type(self) -> ArrowType:
        """Return the Arrow type that holds the column (Parquet keeps it)."""
        match self.name:
            case "decimal":
                return pa.decimal128(self.precision, self.scale)
            case "timestamp":
                return pa.timestamp(self._unit())
            case "timestamp_tz":
                return pa.timestamp(self._unit(), "UTC")
            case "time":
                return pa.time64(self._unit())
            case name:
                return _PLAIN_ARROW_TYPES[name]

    def _unit(self) -> str:
        return "us" if self.second_digits <= 6 else "ns"


_PLAIN_ARROW_TYPES = {
    "boolean": pa.bool_(),
    "integer": pa.int64(),
    "double": pa.float64(),
    "text": pa.large_string(),
    "date": pa.date32(),
    "uuid": pa.large_string(),
    "json": pa.large_string(),
    "xml": pa.large_string(),
}

BOOLEAN = ColumnType("boolean")
INTEGER = ColumnType("integer")
DOUBLE = ColumnType("double")
TEXT = ColumnType("text")
DATE = ColumnType("date")

DECIMAL_DIGITS = 38
"""The most digits a decimal column can have: what 128 bits hold."""
DOUBLE_SAFE_INTEGER = 2**53
"""Up to here every integer is a double of its own (IEEE 754)."""

_SPELLING = re.compile(r"([a-z_]+)\s*(?:\(\s*([0-9]{1,3})\s*(?:,\s*([0-9]{1,3})\s*)?\))?\Z")
_TIMED = ("time", "timestamp", "timestamp_tz")


class TypeSpellingError(ValueError):
    """A text that spells no type."""


def parse_type(text: str) -> ColumnType:
    """Return the type that a layout spells: `integer`, `decimal(5,2)`, `timestamp(3)` and so on.

    Raises:
        TypeSpellingError: When it spells none.
    """
    found = _SPELLING.match(text.strip().lower())
    name = found.group(1) if found else text
    if found is None or name not in TYPE_NAMES:
        near = get_close_matches(name.lower(), TYPE_NAMES, 1)
        hint = f"did you mean {near[0]}?" if near else f"there are {', '.join(TYPE_NAMES)}"
        raise TypeSpellingError(f"expected a type, got {in_quotes(text)}; {hint}")
    first, second = (None if group is None else int(group) for group in found.groups()[1:])
    if name == "decimal":
        return _parse_decimal(first, second)
    if name in _TIMED and second is None and (first or 0) <= 9:
        return ColumnType(name, second_digits=first or 0)
    if first is not None:
        raise TypeSpellingError(f"expected {name} without numbers in brackets, got {in_quotes(text)}")
    return ColumnType(name)


def _parse_decimal(precision: int | None, scale: int | None) -> ColumnType:
    if precision is None or not 1 <= precision <= DECIMAL_DIGITS or not 0 <= (scale or 0) <= precision:
        raise TypeSpellingError(
            f"expected decimal(digits,digits after the point) with 1 to {DECIMAL_DIGITS} digits, "
            f"such as decimal(9,2)"
        )
    return ColumnType("decimal", precision, scale or 0)


def in_shown_unit(values: ArrowArray, column_type: ColumnType) -> ArrowArray:
    """Return an Arrow array of times in a unit that prints as few digits of the second as the type has.

    Digits come in steps of three; arrays of other types are returned as they are.
    """
    arrow_type = values.type
    unit = ("s", "ms", "us", "ns")[(column_type.second_digits + 2) // 3]
    if pa.types.is_time(arrow_type):
        return values.cast(pa.time32(unit) if unit in ("s", "ms") else pa.time64(unit))
    if pa.types.is_timestamp(arrow_type):
        return values.cast(pa.timestamp(unit, arrow_type.tz))
    return values
