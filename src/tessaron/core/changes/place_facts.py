"""What is known of each place of a structure, wherever that comes from: a layout, a survey, a source."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field


@dataclass(frozen=True, slots=True)
class PlaceFacts:
    """What is known of the values at one path.

    Attributes:
        path: The path, as a survey shows it; an element of arrays is `[*]`, an entry of a dictionary `.*`.
        type: Their type; empty where nothing but null was seen.
        digits: How many digits the largest of whole numbers has; None for others, or where unknown.
        rows: The rows that could have one; None where nothing was counted.
        filled: How many of these have one that is not null.
        distinct: How many different values; None where that is not known.
        is_exact: Whether that is exact, else an estimate.
        values: All different values, as JSON; None where they are too many, or not known.
        allowed: The values that a layout allows, as JSON; None where any is.
        is_required: Whether a layout rejects records without it.
        is_key: Whether a layout takes it for a key, or a part of one.
        column: The column that has them, as `table.column`; empty where there is none.
        example: One of them, with its place.
    """

    path: str
    type: str
    rows: int | None = None
    filled: int | None = None
    distinct: int | None = None
    is_exact: bool = True
    values: frozenset[str] | None = None
    allowed: frozenset[str] | None = None
    is_required: bool = False
    is_key: bool = False
    column: str = ""
    example: str = ""
    digits: int | None = None

    @property
    def fill_rate(self) -> float | None:
        """The share of the rows that has one; None where nothing was counted."""
        return None if self.filled is None or not self.rows else self.filled / self.rows

    @property
    def is_unique(self) -> bool | None:
        """Whether no value comes twice; None where that is not known."""
        if self.distinct is None or not self.is_exact or not self.filled or self.filled < 2:
            return None
        return self.distinct == self.filled


@dataclass(frozen=True, slots=True)
class Structure:
    """A structure.

    Attributes:
        name: What it is of.
        kind: `layout`, `survey`, `export`, `database` or `source`.
        places: The places with values, by path.
        levels: The paths at which rows are counted: elements of arrays, entries of dictionaries.
        records: How many records it was learnt from; None where it was not.
        known: Places that a layout knows and has no column for.
    """

    name: str
    kind: str
    places: Mapping[str, PlaceFacts]
    levels: frozenset[str] = frozenset()
    records: int | None = None
    known: frozenset[str] = field(default_factory=frozenset)
