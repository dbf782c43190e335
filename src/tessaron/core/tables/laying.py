"""Rows of a fragment by a layout: tables with keys, and what was filtered, rejected and left out."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from tessaron.core.base.arrays import ArrowArray
from tessaron.core.base.errors import Code
from tessaron.core.base.paths import Path, format_path, level_of
from tessaron.core.base.text_lane import Bools, Int64s
from tessaron.core.base.visible import in_quotes
from tessaron.core.kernel.contract import KernelOptions
from tessaron.core.plan.plan import LayingPlan, TablePlan
from tessaron.core.tables.columns import Columns
from tessaron.core.tables.counting import (
    IS_NO_TEXT,
    count_read,
    filtered_rows,
    left_out,
    met_in,
    without_column,
)
from tessaron.core.tables.laid import Laid
from tessaron.core.tables.levels import Levels
from tessaron.core.tables.problems import Problem, told
from tessaron.core.tables.row_batches import RowBatches
from tessaron.core.tables.shared_rows import share
from tessaron.core.tape.branches import fragment_of, tree_of
from tessaron.core.tape.fragment import Fragment

if TYPE_CHECKING:
    from tessaron.core.expressions.typed import Typed
    from tessaron.core.rearrange.rearranging import Oddity, Rearranging


def lay(
    fragment: Fragment,
    plan: LayingPlan,
    kernel: str = "auto",
    with_records: bool = False,
    typed: Mapping[Any, Any] | None = None,
) -> Laid:
    """Return the rows of a fragment by a layout.

    Args:
        fragment: With the selection of the plan; in its form, but where that changes the structure.
        plan: The layout.
        kernel: The kernel for texts that hold documents.
        with_records: Whether it is wanted which record each row is of.
        typed: Columns that are typed already, by `ColumnPlan.fit_key`.
    """
    passed = fragment.passed_by_path()
    oddities: list[Oddity] = []
    levels = Levels(fragment, typed)
    if plan.rearrangements or plan.exact or _may_have_rests(levels, plan):
        work = _rearranged(fragment, plan, kernel)
        oddities = work.oddities
        passed.update(work.passed)
        levels = Levels(fragment_of(work.tree, fragment), typed)
    columns = Columns(plan, levels, _calculate)
    _work_out_all(columns)
    problems = [
        *_of_oddities(oddities),
        *_of_limits(columns),
        *_of_new_places(levels, plan),
        *_of_no_texts(levels, plan),
        *columns.problems,
    ]
    dropped = np.zeros(fragment.record_count, np.bool_)
    kept = _Mattering(columns)
    relevant = [(problem, kept.indices(problem)) for problem in problems]
    for problem, indices in relevant:
        if problem.outcome == "record" and len(indices):
            dropped[levels.rows_up(problem.level, ())[problem.rows[indices]]] = True
    told_problems = [
        told(problem, indices, levels.rows_up(problem.level, ()))
        for problem, indices in relevant
        if len(indices)
    ]
    rows = RowBatches(columns, dropped)
    batches = {table.name: rows.batch(table) for table in plan.tables if table.table is not None}
    laid = Laid(batches, fragment.record_count, int(dropped.sum()), problems=told_problems)
    laid.passed, laid.left_out = passed, left_out(levels, plan)
    if with_records:
        laid.records = {name: rows.records(plan.table(name)) for name in batches}
    if not plan.is_drafted:
        laid.filtered, laid.met = filtered_rows(columns), met_in(levels, plan)
        unfit = {problem.name: problem.rows[indices] for problem, indices in relevant if _is_unfit(problem)}
        count_read(laid, levels, plan, rows, unfit)
    if plan.shared:
        members = (each.name for tables in plan.shared.values() for each in tables)
        share(laid, plan, {name: rows.records(plan.table(name)) for name in members})
    return laid


def _calculate(columns: Columns, tree: Typed, level: Path) -> tuple[ArrowArray, Mapping[Code, Bools]]:
    # Most layouts calculate nothing.
    from tessaron.core.expressions.evaluation import Evaluation
    from tessaron.core.tables.level_scope import LevelScope

    work = Evaluation(LevelScope(columns, level))
    return work.evaluate(tree), work.failures


def _rearranged(fragment: Fragment, plan: LayingPlan, kernel: str) -> Rearranging:
    """Change the structure as the layout says, and find the rest of the rows."""
    # Most layouts do neither.
    from tessaron.core.rearrange.rearranging import Rearranging
    from tessaron.core.rearrange.restructure import rearrange
    from tessaron.core.shape.conform import conform_tree, mark_folds
    from tessaron.core.tables.row_rests import add_rests, spell_texts

    options = KernelOptions(selection=plan.selection, tells_halves=plan.exact)
    work = Rearranging(tree_of(fragment), kernel, options)
    for change in plan.rearrangements:
        rearrange(work, change)
    if plan.rearrangements:
        conform_tree(work.tree, plan.skeleton)
    else:
        mark_folds(work.tree, plan.skeleton)
    add_rests(work.tree, plan.rests, plan.exact)
    if plan.exact:
        spell_texts(work.tree)
    return work


def _may_have_rests(levels: Levels, plan: LayingPlan) -> bool:
    if not plan.rests:
        return False
    from tessaron.core.tables.row_rests import may_have_rests

    return may_have_rests(levels.nodes, plan.rests, plan.exact)


def _is_unfit(problem: Problem) -> bool:
    """Say whether values are null because they did not fit, and their records stay."""
    return problem.code is Code.MISFIT and problem.outcome != "record"


def _work_out_all(columns: Columns) -> None:
    """Work out what is written, and what has conditions."""
    for table in columns.plan.tables:
        columns.kept(table.name)
        for column in table.columns:
            if not column.hidden or column.conditions.are_given:
                columns.values(table.name, column.name)
        for other, name in table.output:
            columns.values(other, name)


def _of_oddities(oddities: list[Oddity]) -> list[Problem]:
    return [
        Problem(
            each.code, "", "", each.path, (), each.records, "value" if each.rejects else "note",
            each.reasons.__getitem__,
        )
        for each in oddities
    ]  # fmt: skip


def _of_limits(columns: Columns) -> list[Problem]:
    found = []
    for table in columns.plan.tables:
        for limit in table.limits:
            level, rows, texts = columns.beyond(limit)
            if not len(rows):
                continue
            strict = columns.plan.strict
            code = Code.BEYOND if limit.count is not None else Code.NO_FLAG
            outcome: Any = "value" if strict and limit.count is not None else "note"
            found.append(
                Problem(
                    code,
                    table.name,
                    limit.column,
                    limit.text,
                    level,
                    rows,
                    outcome,
                    _Beyond(limit.count, texts),
                )
            )
    return found


def _of_new_places(levels: Levels, plan: LayingPlan) -> list[Problem]:
    """Return the values for which the layout has no column, as far as that is to be told."""
    if plan.left_out_before is None:
        return []
    return [
        Problem(
            Code.NO_COLUMN,
            "",
            "",
            format_path(path),
            level_of(path),
            node.rows_present()[is_value].astype(np.int64),
            "value",
            lambda _: "no column takes this value",
        )
        for path, node, is_value in without_column(levels, plan)
        if not _is_within(path, plan.left_out_before)
    ]


def _of_no_texts(levels: Levels, plan: LayingPlan) -> list[Problem]:
    """Return the numbers and booleans in columns of texts, where nothing else tells what they were."""
    if plan.left_out_before is None:
        return []
    found = []
    for path, node in levels.nodes.items():
        for column in plan.forgetful.get(path, ()):
            is_odd = IS_NO_TEXT[node.kinds]
            if is_odd.any():
                rows = node.rows_present()[is_odd].astype(np.int64)
                found.append(
                    Problem(
                        Code.NO_TEXT, column.table, column.name, column.text, level_of(path), rows, "note",
                        lambda _: "a number or boolean, kept as its text",
                    )
                )  # fmt: skip
    return found


def _is_within(path: Path, places: frozenset[str]) -> bool:
    """Say whether a path is one of some places, as they are shown, or below one."""
    return any(format_path(path[:count]) in places for count in range(1, len(path) + 1))


@dataclass(frozen=True, slots=True)
class _Beyond:
    count: int | None
    texts: Any

    def __call__(self, index: int) -> str:
        if self.count is not None:
            return f"only the first {self.count} of the values have a column"
        return f"{in_quotes(self.texts[index].as_py())} is not among the flags"


class _Mattering:
    """Says which rows of problems matter: those that no filter takes away."""

    def __init__(self, columns: Columns):
        self._columns = columns

    def indices(self, problem: Problem) -> Int64s:
        """Return which rows of a problem matter, as indices into them."""
        mask = self._mask(problem)
        return np.flatnonzero(mask[problem.rows]) if mask is not None else np.arange(len(problem.rows))

    def _mask(self, problem: Problem) -> Bools | None:
        columns, level = self._columns, problem.level
        table = columns.plan.table(problem.table) if problem.table else self._nearest(level)
        if table is None:
            return None
        kept = np.ones(0, np.bool_)
        # What a filter says of its own rows must not hide that it could not be worked out.
        kept = (
            np.ones_like(columns.kept(table.name)) if problem.column == "keep" else columns.kept(table.name)
        )
        if table.level == level[: len(table.level)]:
            return kept[columns.levels.rows_up(level, table.level)]
        below = columns.levels.rows_up(table.level, level)[kept]
        return np.bincount(below, minlength=columns.levels.row_count(level)) > 0

    def _nearest(self, level: Path) -> TablePlan | None:
        above = [table for table in self._columns.plan.tables if table.level == level[: len(table.level)]]
        return max(above, key=lambda table: len(table.level), default=None)
