"""Values and rows that are not as the layout wants: kept until it is known which matter."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from tessaron.core.base.errors import Code
from tessaron.core.base.paths import Path
from tessaron.core.base.text_lane import Int64s
from tessaron.core.plan.plan import Outcome


@dataclass(frozen=True, slots=True)
class Problem:
    """Rows of one level for which something does not hold.

    Attributes:
        code: A short stable name of the reason.
        table: The table, or empty where none is concerned.
        column: The column, or empty.
        path: The path or expression, as the layout spells it.
        level: The level of the rows.
        rows: The rows, from 0.
        outcome: What is to become of them.
        reason: The words for the case at an index of `rows`.
    """

    code: Code
    table: str
    column: str
    path: str
    level: Path
    rows: Int64s
    outcome: Outcome
    reason: Callable[[int], str]

    @property
    def name(self) -> str:
        """What is concerned: `table.column`, or the path."""
        return f"{self.table}.{self.column}" if self.column else self.path


@dataclass(frozen=True, slots=True)
class Case:
    """One case of a problem, ready to be told."""

    code: Code
    name: str
    path: str
    record: int
    reason: str
    outcome: Outcome


@dataclass(frozen=True, slots=True)
class Told:
    """A problem as the run hears of it: how often, and the first cases."""

    code: Code
    name: str
    path: str
    outcome: Outcome
    count: int
    cases: tuple[Case, ...]


def told(problem: Problem, indices: Int64s, records: Int64s) -> Told:
    """Return a problem for those of its rows that matter.

    Args:
        problem: The problem.
        indices: Which of its rows matter.
        records: The record of each row of the problem's level.
    """
    cases = tuple(
        Case(
            problem.code, problem.name, problem.path, int(records[problem.rows[index]]),
            problem.reason(int(index)), problem.outcome,
        )
        # Of what is only noted the first is told; what is rejected is listed.
        for index in (indices[:1] if problem.outcome == "note" else indices)
    )  # fmt: skip
    return Told(problem.code, problem.name, problem.path, problem.outcome, len(indices), cases)


def shown_value(value: object) -> str:
    """Return a value as a message shows it, cut when it is long."""
    text = repr(str(value)) if isinstance(value, str) else str(value)
    return text if len(text) <= 60 else text[:57] + "…"


def rows_of(mask: Sequence[bool] | Any) -> Int64s:
    """Return the rows that a mask marks."""
    return np.flatnonzero(mask).astype(np.int64)
