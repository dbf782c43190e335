"""What became of a fragment: rows, and what was filtered, rejected and left out."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass, field
from typing import Any

from tessaron.core.base.text_lane import Int64s
from tessaron.core.tables.problems import Told


@dataclass(slots=True)
class Laid:
    """What became of a fragment.

    Attributes:
        batches: The rows that each written table gets, keys counted from 1.
        records: For each written table the record of each row, from 0; only where that was asked for.
        record_count: Records read.
        rejected: Records that are left out because of a problem.
        filtered: Rows that filters took away, by table.
        left_out: Values that were parsed and that no column has, by path.
        passed: Values that were passed over, as nothing is wanted there, by path.
        met: The paths of the layout that stood somewhere.
        problems: What did not hold.
        read: Rows by table, and values by `table.column`, that stood there before anything was done to them.
        gone: Those of them in rows that are not written.
        unfit: Values by `table.column` that did not fit, in rows that are written.
    """

    batches: dict[str, Any]
    record_count: int
    rejected: int = 0
    filtered: Counter[str] = field(default_factory=Counter)
    left_out: Counter[str] = field(default_factory=Counter)
    passed: Counter[str] = field(default_factory=Counter)
    met: frozenset[str] = frozenset()
    problems: list[Told] = field(default_factory=list)
    records: dict[str, Int64s] = field(default_factory=dict)
    read: Counter[str] = field(default_factory=Counter)
    gone: Counter[str] = field(default_factory=Counter)
    unfit: Counter[str] = field(default_factory=Counter)
