"""The columns of a layout, worked out level by level: from paths, folds and expressions."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from functools import partial
from typing import TYPE_CHECKING, Any, Protocol

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from tessaron.core.base.arrays import ArrowArray, array_of
from tessaron.core.base.errors import Code
from tessaron.core.base.kinds import Kind
from tessaron.core.base.paths import Origin, Path, is_markup
from tessaron.core.base.text_lane import Bools, Int64s
from tessaron.core.plan.plan import ColumnPlan, LayingPlan, Limit, Source, TablePlan
from tessaron.core.tables.column_values import (
    Fitted,
    all_fitted,
    clean_texts,
    fit_node,
    json_of_scalars,
    mask_values,
)
from tessaron.core.tables.levels import Levels
from tessaron.core.tables.problems import Problem, rows_of, shown_value
from tessaron.core.tape.fragment import Node
from tessaron.core.types.column_types import INTEGER, TEXT
from tessaron.core.types.fitting import Spelling

if TYPE_CHECKING:
    from tessaron.core.expressions.typed import Typed

_REASONS = {
    Code.DIVISION_BY_ZERO: "a division by zero has no result",
    Code.OVERFLOW: "the result has more digits than its type",
    Code.NOT_CONVERTIBLE: "a value cannot be converted",
}


class Calculate(Protocol):
    """Works out an expression for the rows of a level."""

    def __call__(self, columns: Columns, tree: Typed, level: Path) -> tuple[ArrowArray, Mapping[Code, Bools]]:
        """Return the values, and by the code of what does not hold which rows that is true of."""


class Columns:
    """Works out columns and filters of one fragment, each once.

    Args:
        plan: The layout.
        levels: The fragment.
        calculate: What works out expressions.

    Attributes:
        plan: The layout.
        levels: The fragment.
        problems: What does not hold, in any row, filtered or not.
    """

    def __init__(self, plan: LayingPlan, levels: Levels, calculate: Calculate):
        self._calculate = calculate
        self.plan = plan
        self.levels = levels
        self.problems: list[Problem] = []
        self._tables = {table.name: table for table in plan.tables}
        self._plans = {(each.table, each.name): each for table in plan.tables for each in table.columns}
        self._values: dict[tuple[str, str], Any] = {}
        self._fitted: dict[Any, Fitted] = {}
        self._told: set[Any] = set()
        self._own_keeps: dict[str, Bools | None] = {}
        self._kept: dict[str, Bools] = {}
        self._unfiltered: dict[str, Bools] = {}

    def values(self, table: str, name: str) -> ArrowArray:
        """Return a column as an Arrow array, with a value for each row of the table's level."""
        key = (table, name)
        if key not in self._values:
            self._values[key] = self._work_out(self._plans[key])
        return self._values[key]

    def kept(self, table: str) -> Bools:
        """Return which rows of a table's level stay: no filter, its own or one above, takes them away."""
        if table not in self._kept:
            plan = self._tables[table]
            kept = self.unfiltered(table)
            if plan.only_filled:
                kept = kept & self._filled(plan)
            elif plan.once:
                for column in plan.once:
                    kept = kept & self.values(table, column).is_valid().to_numpy(zero_copy_only=False)
            self._kept[table] = kept
        return self._kept[table]

    def unfiltered(self, table: str) -> Bools:
        """Return which rows of a table's level no filter takes away, filled or not."""
        if table not in self._unfiltered:
            self._unfiltered[table] = self._filter(self._tables[table])
        return self._unfiltered[table]

    def _filled(self, table: TablePlan) -> Bools:
        """Return in which rows one of the columns of a table has a value."""
        mask = np.zeros(self.levels.row_count(table.level), np.bool_)
        for column in table.columns:
            if column.source is not None and not isinstance(column.source.path[-1:][0], Origin):
                mask |= self.values(table.name, column.name).is_valid().to_numpy(zero_copy_only=False)
        return mask

    def _filter(self, table: TablePlan) -> Bools:
        level = table.level
        mask = np.ones(self.levels.row_count(level), np.bool_)
        above = self._above(table)
        for other in self.plan.with_filters:
            own = self.own_keep(other) if other.name in above else None
            if own is not None:
                whole = self.with_contained(own, other.level)
                mask &= whole[self.levels.rows_up(level, other.level)]
        return self.with_contained(mask, level)

    def _above(self, table: TablePlan) -> set[str]:
        """Return the names of a table and of those that its rows belong to, up to the records."""
        found = {table.name}
        while table.parent is not None and table.parent not in found:
            found.add(table.parent)
            table = self._tables[table.parent]
        return found

    def with_contained(self, mask: Bools, level: Path) -> Bools:
        """Return a mask of rows without what stands inside rows of the same level that it has not."""
        within = self.levels.within(level)
        while within is not None:
            closed = mask & ((within < 0) | mask[np.maximum(within, 0)])
            if (closed == mask).all():
                break
            mask = closed
        return mask

    def own_keep(self, table: TablePlan) -> Bools | None:
        """Return what the table's own filter keeps; None where it has none."""
        if table.keep is None:
            return None
        if table.name not in self._own_keeps:
            values = self._evaluate(table.keep, table.name, "keep", "", table.level)
            self._own_keeps[table.name] = np.asarray(
                pc.fill_null(values, False).to_numpy(zero_copy_only=False)
            )
        return self._own_keeps[table.name]

    def _evaluate(self, tree: Typed, table: str, column: str, text: str, level: Path) -> ArrowArray:
        values, failures = self._calculate(self, tree, level)
        outcome = self._plans[(table, column)].misfit if (table, column) in self._plans else "value"
        for code, rows in failures.items():
            reason = _REASONS[code]
            self.problems.append(
                Problem(code, table, column, text, level, rows_of(rows), outcome, partial(_constant, reason))
            )
        return values

    def _work_out(self, plan: ColumnPlan) -> ArrowArray:
        level = self._tables[plan.table].level
        if plan.value is not None:
            values = self._evaluate(plan.value, plan.table, plan.name, plan.text, level)
            kind = plan.value.type or plan.type
            if plan.cleaning.changes_texts and kind.name == "text":
                values = clean_texts(values, plan.cleaning)
            values = self._in_type(values, kind, plan, level)
        else:
            values = self._from_source(plan, level)
        if plan.cleaning.default is not None:
            values = pc.fill_null(values, plan.cleaning.default)
        if plan.conditions.are_given:
            self._check(values, plan, level)
        return mask_values(values, plan, self.plan.secret)

    def _in_type(self, values: ArrowArray, kind: ArrowArray, plan: ColumnPlan, level: Path) -> ArrowArray:
        if values.type == plan.type.arrow_type() and kind.name == plan.type.name:
            return values
        from tessaron.core.expressions.evaluation import convert

        made, bad = convert(values, kind, plan.type, plan.spelling)
        if bad is not None and bad.any():
            rows = rows_of(bad)
            texts = values.take(array_of(rows)).cast(pa.large_string())
            self._misfits(plan, level, rows, texts)
        return made

    def _misfits(self, plan: ColumnPlan, level: Path, rows: Int64s, texts: ArrowArray) -> None:
        if len(rows):
            target = plan.value_type
            reason = partial(_misfit, str(target), texts, plan)
            self.problems.append(
                Problem(Code.MISFIT, plan.table, plan.name, plan.text, level, rows, plan.misfit, reason)
            )

    def _from_source(self, plan: ColumnPlan, level: Path) -> ArrowArray:
        assert plan.source is not None
        source = plan.source
        is_below = len(source.level) > len(level)
        if plan.fold == "count" and is_below:
            return self._in_type(self._count(source, level), INTEGER, plan, level)
        fitted = self._fit(plan)
        if not is_below:
            if source.level == level:
                return fitted.values
            return fitted.values.take(array_of(self.levels.rows_up(level, source.level)))
        return self._folded(plan, fitted.values, level)

    def _fit(self, plan: ColumnPlan) -> Fitted:
        """Return the values at a column's source; columns that share it share the work."""
        source = plan.source
        assert source is not None
        key = plan.fit_key()
        if key not in self._fitted:
            node = self.levels.nodes.get(source.path)
            values = self.levels.typed.get(key)
            if values is None:
                found = fit_node(node, self.levels.row_count(source.level), plan)
            else:
                found = all_fitted(values)
            found = _with_several(found, node, source.path)
            if source.path[-1:] == (Origin.JSON,) and any(
                c.kind == "split" for c in self.plan.rearrangements
            ):
                # What was split out of a text never stood in the document as JSON.
                made = json_of_scalars(self.levels.nodes.get(source.path[:-1]), len(found.values))
                found = replace(found, values=pc.coalesce(found.values, made))
            self._fitted[key] = found
        self._say_misfits(plan, self._fitted[key], key)
        return self._fitted[key]

    def _say_misfits(self, plan: ColumnPlan, fitted: Fitted, key: ArrowArray) -> None:
        """Tell what does not fit: once for the columns of one key of the layout, where their path looks."""
        assert plan.source is not None
        told = (key, plan.source.picks, plan.table, plan.text, plan.misfit, plan.mask)
        if told in self._told or not len(fitted.misfits):
            return
        self._told.add(told)
        chosen = self._chosen(plan.source)
        matters = np.ones(len(fitted.misfits), np.bool_) if chosen is None else chosen[fitted.misfits]
        texts = fitted.texts.filter(array_of(matters))
        self._misfits(plan, plan.source.level, fitted.misfits[matters], texts)

    def _chosen(self, source: Source) -> Bools | None:
        """Return which rows of a source's level are at the positions that its path names."""
        chosen: Bools | None = None
        for level, index in source.picks:
            node = self.levels.nodes.get(level)
            if node is None:
                continue
            parents = node.parent_rows
            lengths = np.bincount(parents) if len(parents) else np.zeros(1, np.int64)
            wanted = index + 1 if index >= 0 else lengths[parents] + index + 1
            # What stands without an array, with ordinal 0, is the first and the last.
            here = (np.maximum(node.ordinals, 1) == wanted)[self.levels.rows_up(source.level, level)]
            chosen = here if chosen is None else chosen & here
        return chosen

    def _folded(self, plan: ColumnPlan, values: ArrowArray, level: Path) -> ArrowArray:
        # Most layouts fold nothing.
        from tessaron.core.expressions.folding import FoldOverflowError, fold, folded_type

        source = plan.source
        assert source is not None
        above = self.levels.rows_up(source.level, level)
        chosen = self._chosen(source)
        if chosen is not None:
            values, above = values.filter(array_of(chosen)), above[chosen]
        count = self.levels.row_count(level)
        if plan.fold == "flag":
            same = pc.fill_null(pc.equal(values, pa.scalar(plan.details["value"], values.type)), False)
            return fold("any", same, above, count)
        name = plan.fold or "first"
        inner = plan.value_type
        try:
            made = fold(name, values, above, count, **plan.details)
        except FoldOverflowError as error:
            reason = partial(_constant, _REASONS[Code.OVERFLOW])
            self.problems.append(
                Problem(
                    Code.OVERFLOW, plan.table, plan.name, plan.text, level, error.rows, plan.misfit, reason
                )
            )
            fine = ~np.isin(above, error.rows)
            made = fold(name, values.filter(array_of(fine)), above[fine], count, **plan.details)
        kind = folded_type("first" if name == "nth" else name, inner)
        return self._in_type(made, kind or plan.type, plan, level)

    def _count(self, source: Source, level: Path) -> ArrowArray:
        """Count elements, or the values of a field of them."""
        rows = np.ones(self.levels.row_count(source.level), np.bool_)
        if source.path != source.level:
            node = self.levels.nodes.get(source.path)
            rows[:] = False
            if node is not None:
                rows[node.rows_present()[node.kinds != Kind.NULL]] = True
        chosen = self._chosen(source)
        if chosen is not None:
            rows &= chosen
        above = self.levels.rows_up(source.level, level)[rows]
        return pa.array(np.bincount(above, minlength=self.levels.row_count(level)).astype(np.int64))

    def _check(self, values: ArrowArray, plan: ColumnPlan, level: Path) -> None:
        from tessaron.core.tables.conditions import CONDITIONS, failure

        for code, reason, test in CONDITIONS:
            bad = test(values, plan)
            if bad is None:
                continue
            rows = rows_of(pc.fill_null(bad, False).to_numpy(zero_copy_only=False))
            if len(rows):
                shown = values.take(array_of(rows))
                outcome = plan.conditions.failed
                told = partial(failure, reason, shown, plan)
                self.problems.append(
                    Problem(code, plan.table, plan.name, plan.text, level, rows, outcome, told)
                )

    def beyond(self, limit: Limit) -> tuple[Path, Int64s, ArrowArray]:
        """Return the values at a source that have no column: their level, rows and texts."""
        source = limit.source
        node = self.levels.nodes.get(source.path)
        nothing = pa.array([], pa.large_string())
        if node is None:
            return source.level, np.empty(0, np.int64), nothing
        if limit.count is not None:
            holder = self.levels.nodes[source.level]
            rows = rows_of(holder.ordinals > limit.count)
            return source.level, rows, pa.nulls(len(rows), pa.large_string())
        column = ColumnPlan("", "", TEXT, source, cleaning=limit.cleaning)
        fitted = fit_node(node, self.levels.row_count(source.level), column)
        known = pc.is_in(fitted.values, pa.array(limit.known, pa.large_string()))
        odd = pc.and_(pc.is_valid(fitted.values), pc.invert(known)).to_numpy(zero_copy_only=False)
        rows = rows_of(odd)
        return source.level, rows, fitted.values.take(array_of(rows))


def _constant(reason: str, index: int) -> str:
    return reason


def _misfit(target: str, texts: ArrowArray, plan: ColumnPlan, index: int) -> str:
    value = "a value (masked)" if plan.mask else shown_value(texts[index].as_py())
    return f"expected {target}{_how(plan.spelling)}, got {value}"


def _how(spelling: Spelling) -> str:
    if spelling.format is not None:
        return f" as {spelling.format}"
    return f" of {spelling.words[0]}/{spelling.words[1]}" if spelling.words is not None else ""


def _with_several(found: Fitted, node: Node | None, path: Path) -> Fitted:
    """Return what stands at a path of XML with a misfit for each row that has several elements there."""
    if node is None or not is_markup(path) or isinstance(path[-1], Origin):
        return found
    rows = node.rows_present()[node.kinds == Kind.ARRAY].astype(np.int64)
    if not len(rows):
        return found
    texts = pa.concat_arrays([found.texts, pa.array([_SEVERAL] * len(rows), pa.large_string())])
    return replace(found, misfits=np.concatenate((found.misfits, rows)), texts=texts)


_SEVERAL = "several elements"
"""What stands, in the words of a message, where a column of XML is for one element."""
