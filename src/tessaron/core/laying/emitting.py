"""Rows of a fragment by a layout: tables with keys, and what was filtered, rejected and left out."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
import pyarrow as pa

from tessaron.core.branches import fragment_of, tree_of
from tessaron.core.casting import without_empty_texts
from tessaron.core.conform import conform_tree
from tessaron.core.digest_keys import digest_of_columns, places_among, salt_of
from tessaron.core.digests import Digests, digest_texts, digest_words, hex_of
from tessaron.core.fragment import Bools, Fragment, Int64s, Node, Role
from tessaron.core.kernel.contract import KernelOptions
from tessaron.core.kinds import SCALAR_KINDS, Kind
from tessaron.core.laying.columns import Columns
from tessaron.core.laying.levels import Levels
from tessaron.core.laying.plan import ColumnPlan, LayingPlan, TablePlan, is_turned_back
from tessaron.core.laying.problems import Problem, Told, told
from tessaron.core.laying.rearranging import Rearranging
from tessaron.core.laying.restructure import rearrange
from tessaron.core.laying.row_sets import RowSet
from tessaron.core.layout import Table
from tessaron.core.paths import ELEMENT, Origin, Path, format_path
from tessaron.core.rebuilding.rest import add_rests, spell_texts
from tessaron.core.shape import unpack_nodes
from tessaron.core.visible import in_quotes


@dataclass(slots=True)
class Laid:
    """What became of a fragment.

    Attributes:
        batches: The rows that each written table gets, keys counted from 1.
        records: For each written table the record of each row, from 0; only where that was asked for.
        record_count: Records read.
        rejected: Records that are left out because of a problem.
        filtered: Rows that filters took away, by table.
        left_out: Values that no column has, by path.
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
    met: frozenset[str] = frozenset()
    problems: list[Told] = field(default_factory=list)
    records: dict[str, Int64s] = field(default_factory=dict)
    read: Counter[str] = field(default_factory=Counter)
    gone: Counter[str] = field(default_factory=Counter)
    unfit: Counter[str] = field(default_factory=Counter)


def lay(fragment: Fragment, plan: LayingPlan, kernel: str = "auto", with_records: bool = False) -> Laid:
    """Return the rows of a fragment by a layout.

    Args:
        fragment: With the selection of the plan; in its form, but where that changes the structure.
        plan: The layout.
        kernel: The kernel for texts that hold documents.
        with_records: Whether it is wanted which record each row is of.
    """
    left_out = fragment.passed_by_path()
    work = Rearranging(
        tree_of(fragment), kernel, KernelOptions(selection=plan.selection, tells_halves=plan.exact)
    )
    for change in plan.rearrangements:
        rearrange(work, change)
    left_out.update(work.passed)
    if plan.rearrangements:
        conform_tree(work.tree, unpack_nodes(plan.skeleton))
    add_rests(work.tree, plan.rests, plan.exact)
    if plan.exact:
        spell_texts(work.tree)
    levels = Levels(fragment_of(work.tree, fragment))
    columns = Columns(plan, levels)
    _work_out_all(columns)
    problems = [*_of_oddities(work), *_of_limits(columns), *columns.problems]
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
    emitter = _Emitter(columns, dropped)
    batches = {table.name: emitter.batch(table) for table in plan.tables if table.table is not None}
    laid = Laid(batches, fragment.record_count, int(dropped.sum()), problems=told_problems)
    laid.filtered = _filtered(columns)
    laid.left_out = left_out + _unreferenced(levels, plan)
    laid.met = _met(levels, plan)
    unfit = {problem.name: problem.rows[indices] for problem, indices in relevant if _is_unfit(problem)}
    _count(laid, levels, plan, emitter, unfit)
    if with_records:
        laid.records = {name: emitter.records(plan.table(name)) for name in batches}
    return laid


def _is_unfit(problem: Problem) -> bool:
    """Say whether values are null because they did not fit, and their records stay."""
    return problem.code == "misfit" and problem.outcome != "record"


def _count(laid: Laid, levels: Levels, plan: LayingPlan, emitter: _Emitter, unfit: dict[str, Int64s]) -> None:
    """Count what stood at tables and columns whose rows are simply those of their level."""
    for table in plan.tables:
        if table.table is None or table.is_flat:
            continue
        kept = np.zeros(levels.row_count(table.level), np.bool_)
        kept[emitter.rows(table).at(table.level)] = True
        laid.read[table.name] += len(kept)
        laid.gone[table.name] += int((~kept).sum())
        for column in table.columns:
            if not column.hidden and is_turned_back(column, table) and column.source is not None:
                _count_values(laid, levels.nodes.get(column.source.path), column, kept)
                name = f"{table.name}.{column.name}"
                laid.unfit[name] += int(kept[unfit[name]].sum()) if name in unfit else 0


def _count_values(laid: Laid, node: Node | None, column: ColumnPlan, kept: Bools) -> None:
    if node is None or node.role is Role.ORIGIN:
        return
    if column.type.name != "text" and column.spelling.of_markup:
        node = without_empty_texts(node)
    rows = node.rows_present()[np.isin(node.kinds, SCALAR_KINDS)]
    name = f"{column.table}.{column.name}"
    laid.read[name] += len(rows)
    laid.gone[name] += int((~kept[rows]).sum())


def _unreferenced(levels: Levels, plan: LayingPlan) -> Counter[str]:
    """Return the values that were parsed with others, and have no column themselves."""
    used = {each.source.path for table in plan.tables for each in table.columns if each.source is not None}
    used |= {limit.source.path for table in plan.tables for limit in table.limits}
    moved = [path for change in plan.rearrangements for path in _moved(change)]
    found: Counter[str] = Counter()
    for path, node in levels.nodes.items():
        if (
            path in used
            or (path and isinstance(path[-1], Origin))
            or any(_starts(path, each) for each in moved)
        ):
            continue
        if plan.containers and tuple(step for step in path if step is not ELEMENT) in plan.containers:
            kinds = without_empty_texts(node).kinds
        else:
            kinds = node.kinds
        count = int((np.isin(kinds, (Kind.NULL, Kind.OBJECT, Kind.ARRAY), invert=True)).sum())
        if count and (*path, Origin.JSON) not in used:
            found[format_path(path)] += count
    return found


def _moved(change: Any) -> list[Path]:
    """Return the places whose values a rearrangement has taken elsewhere."""
    if change.kind in ("union", "parallel"):
        return list(change.detail)
    return [change.detail] if change.kind == "named_rows" else []


def _starts(path: Path, start: Path) -> bool:
    return path[: len(start)] == start


def _met(levels: Levels, plan: LayingPlan) -> frozenset[str]:
    """Return the tables and columns whose path stands somewhere in the fragment."""
    found = {table.name for table in plan.tables if levels.row_count(table.level)}
    for table in plan.tables:
        for column in table.columns:
            if column.source is None:
                continue
            node = levels.nodes.get(column.source.path)
            if node is not None and (len(node.kinds) or column.source.path == column.source.level):
                found.add(f"{table.name}.{column.name}")
    return frozenset(found)


def _work_out_all(columns: Columns) -> None:
    """Work out what is written, and what has conditions."""
    for table in columns.plan.tables:
        columns.kept(table.name)
        for column in table.columns:
            if not column.hidden or column.conditions.are_given:
                columns.values(table.name, column.name)
        for other, name in table.output:
            columns.values(other, name)


def _filtered(columns: Columns) -> Counter[str]:
    found: Counter[str] = Counter()
    for table in columns.plan.tables:
        gone = int((~columns.kept(table.name)).sum())
        if gone:
            found[table.name] = gone
    return found


def _of_oddities(work: Rearranging) -> list[Problem]:
    return [
        Problem(
            each.code, "", "", each.path, (), each.records, "value" if each.rejects else "note",
            each.reasons.__getitem__,
        )
        for each in work.oddities
    ]  # fmt: skip


def _of_limits(columns: Columns) -> list[Problem]:
    found = []
    for table in columns.plan.tables:
        for limit in table.limits:
            level, rows, texts = columns.beyond(limit)
            if not len(rows):
                continue
            strict = columns.plan.strict
            outcome: Any = "value" if strict and limit.count is not None else "note"
            found.append(
                Problem(
                    "beyond" if limit.count is not None else "no_flag", table.name, limit.column, limit.text,
                    level, rows, outcome, _Beyond(limit.count, texts),
                )
            )  # fmt: skip
    return found


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


class _Emitter:
    """Makes the record batches of the tables."""

    def __init__(self, columns: Columns, dropped: Bools):
        self._columns = columns
        self._levels = columns.levels
        self._dropped = dropped
        self._sets: dict[str, RowSet] = {}
        self._digests: dict[str, Digests] = {}

    def rows(self, table: TablePlan) -> RowSet:
        """Return the rows of a table."""
        if table.name not in self._sets:
            self._sets[table.name] = RowSet(self._columns, table, self._dropped)
        return self._sets[table.name]

    def records(self, table: TablePlan) -> Int64s:
        """Return the record of each row of a table."""
        return self.rows(table).at(())

    def batch(self, table: TablePlan) -> Any:
        """Return the rows of a table as a record batch, keys first."""
        written, rows = table.table, self.rows(table)
        assert written is not None
        arrays = self._keys(table, written, rows)
        for (other, name), column in zip(table.output, written.columns, strict=True):
            values = self._columns.values(other, name)
            level = self._columns.plan.table(other).level
            arrays.append(rows.take(values, level).cast(column.type.arrow_type()))
        return pa.RecordBatch.from_arrays(arrays, schema=written.arrow_schema())

    def _keys(self, table: TablePlan, written: Table, rows: RowSet) -> list[Any]:
        plan = self._columns.plan
        keys = [self._own_keys(table, rows)]
        if written.parent is not None and written.parent_key is not None:
            parent = plan.table(written.parent)
            keys.append(self._keys_at(parent, rows.at(parent.level)))
        for origin, name, target in (
            (Origin.WITHIN, written.within_key, written.name),
            (Origin.THROUGH, written.through_key, written.through),
        ):
            if name is not None:
                found = self._referred(table, rows, origin)
                keys.append(self._keys_at(plan.table(str(target)), found))
        if written.ordinal is not None and written.parent is not None:
            ordinals = self._levels.ordinals(table.level, plan.table(written.parent).level)
            keys.append(rows.take(pa.array(ordinals), table.level))
        return keys

    def _own_keys(self, table: TablePlan, rows: RowSet) -> Any:
        if not self._columns.plan.has_digest_keys:
            return pa.array(np.arange(1, rows.count + 1, dtype=np.int64))
        if rows.is_plain:
            return hex_of(self._digests_of(table)[rows.at(table.level)])
        record = self._digests_of(self._top())[rows.at(())]
        salt = np.full(rows.count, salt_of(table.level), np.uint64)
        places = places_among(rows.at(()))
        return hex_of(digest_words([record[:, 0], record[:, 1], salt, places]))

    def _keys_at(self, table: TablePlan, level_rows: Int64s) -> Any:
        """Return the keys of rows of a table, given as rows of its level, -1 for none."""
        kept = self.rows(table).at(table.level)
        numbers = np.zeros(self._levels.row_count(table.level) + 1, np.int64)
        numbers[kept] = np.arange(1, len(kept) + 1)
        found = numbers[level_rows]
        missing = (level_rows < 0) | (found == 0)
        if self._columns.plan.has_digest_keys:
            texts = hex_of(self._digests_of(table))
            return texts.take(pa.array(level_rows, mask=missing if missing.any() else None))
        return pa.array(found, mask=missing if missing.any() else None)

    def _referred(self, table: TablePlan, rows: RowSet, origin: Origin) -> Int64s:
        """Return the rows that rows of a structure that contains itself refer to, -1 for none."""
        node = self._levels.nodes.get((*table.level, origin))
        found = np.full(self._levels.row_count(table.level), -1, np.int64)
        if node is not None:
            found[node.rows_present()] = node.integers
        return found[rows.at(table.level)]

    def _top(self) -> TablePlan:
        return next(table for table in self._columns.plan.tables if not table.level)

    def _digests_of(self, table: TablePlan) -> Digests:
        """Return the digest of each row of a table's level."""
        if table.name not in self._digests:
            self._digests[table.name] = self._make_digests(table)
        return self._digests[table.name]

    def _make_digests(self, table: TablePlan) -> Digests:
        plan = self._columns.plan
        if not table.level:
            return self._of_records()
        parent = plan.table(table.parent) if table.parent is not None else None
        if parent is not None and parent.level == table.level:
            return self._digests_of(parent)
        upper = parent.level if parent is not None else ()
        parents = self._levels.rows_up(table.level, upper)
        is_contained = (*table.level, Origin.DEPTH) in self._levels.nodes
        places = places_among(parents) if is_contained else self._levels.ordinals(table.level, upper)
        above = (self._of_records() if parent is None else self._digests_of(parent))[parents]
        salt = np.full(len(parents), salt_of(table.level), np.uint64)
        return digest_words([above[:, 0], above[:, 1], salt, places])

    def _of_records(self) -> Digests:
        plan = self._columns.plan
        if plan.natural_key:
            top = self._top().name
            arrays = [self._columns.values(top, name) for name in plan.natural_key]
            return digest_of_columns(pa.RecordBatch.from_arrays(arrays, plan.natural_key), plan.natural_key)
        node = self._levels.nodes.get((Origin.CONTENT,))
        return np.empty((0, 2), np.uint64) if node is None else digest_texts(node.texts)


def renumber(laid: Laid, plan: LayingPlan, dropped: Bools) -> Laid:
    """Return what became of a fragment without some of its records, keys counted anew from 1."""
    batches: dict[str, Any] = {}
    numbers: dict[str, Int64s] = {}
    for table in plan.written().tables:
        batch = laid.batches[table.name]
        kept = ~dropped[laid.records[table.name]]
        numbers[table.name] = np.where(kept, np.cumsum(kept), 0)
        batches[table.name] = batch.filter(pa.array(kept))
    if not plan.has_digest_keys:
        for table in plan.written().tables:
            batches[table.name] = _with_numbers(batches[table.name], table, numbers)
    return replace(laid, batches=batches)


def _with_numbers(batch: Any, table: Table, numbers: dict[str, Int64s]) -> Any:
    pairs = [(table.row_key, table.name), (table.parent_key, table.parent)]
    pairs += [(table.within_key, table.name), (table.through_key, table.through)]
    for column, other in pairs:
        if column is None or other is None or not batch.num_rows:
            continue
        index = batch.schema.get_field_index(column)
        old = batch.column(index)
        known = old.is_valid().to_numpy(zero_copy_only=False)
        places = old.fill_null(1).to_numpy() - 1
        new = pa.array(numbers[other][places], mask=~known if not known.all() else None)
        batch = batch.set_column(index, batch.schema.field(index), new)
    return batch
