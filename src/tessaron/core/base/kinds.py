"""The kinds a value can have in the text, as the small codes that fragments store."""

from __future__ import annotations

from enum import IntEnum


class Kind(IntEnum):
    """What a value is in the text. An absent value has no code: it is not there.

    `LONG_INTEGER` is an integer that does not fit 64 bits, or is written `-0`: it is kept as its digits.
    """

    NULL = 0
    BOOLEAN = 1
    INTEGER = 2
    LONG_INTEGER = 3
    FRACTION = 4
    TEXT = 5
    OBJECT = 6
    ARRAY = 7


KIND_COUNT = len(Kind)
SCALAR_KINDS = (Kind.BOOLEAN, Kind.INTEGER, Kind.LONG_INTEGER, Kind.FRACTION, Kind.TEXT)
"""The kinds that carry a value into a column."""

LANE_OF_KIND = {
    Kind.BOOLEAN: "booleans",
    Kind.INTEGER: "integers",
    Kind.LONG_INTEGER: "numbers",
    Kind.FRACTION: "numbers",
    Kind.TEXT: "texts",
}
"""The lane of a fragment node in which a kind's values are stored, in order of occurrence."""
