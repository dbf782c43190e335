"""Making a layout ready to run: paths, types and expressions worked out, all mistakes found at once."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field, replace
from typing import Any

from tessaron.core.base.errors import UsageError
from tessaron.core.base.naming import Names
from tessaron.core.base.paths import ELEMENT, ENTRY, Origin, Path, format_path
from tessaron.core.base.visible import in_quotes
from tessaron.core.cutting.selecting import PathSelection, UngatheredSelection
from tessaron.core.expressions.expression_faults import nearest
from tessaron.core.layout.checking_layouts import CheckedLayout
from tessaron.core.layout.layout_faults import LayoutError, LayoutFault
from tessaron.core.layout.layout_model import ReadingPart, TablePart
from tessaron.core.layout.layout_paths import JsonLayoutPaths, LayoutPaths
from tessaron.core.layout.layout_xml_paths import XmlLayoutPaths
from tessaron.core.layout.shared_places import with_places
from tessaron.core.layout.table_set import (
    ORDINAL,
    PARENT_KEY,
    PLACE,
    ROW_KEY,
    THROUGH_KEY,
    WITHIN_KEY,
    Column,
    Table,
    written_name,
)
from tessaron.core.layout.toml_lines import Keys
from tessaron.core.plan.column_plans import ColumnMaker, TableColumns
from tessaron.core.plan.cycles import find_cycles
from tessaron.core.plan.layout_rests import keeps_rest, rest_of, with_rests
from tessaron.core.plan.plan import ColumnPlan, LayingPlan, Plans, Rearrangement, TablePlan
from tessaron.core.plan.references import References
from tessaron.core.plan.rows_finding import RowsFinder
from tessaron.core.plan.scopes import ExpressionScope
from tessaron.core.plan.skeleton import NOT_SCALAR, skeleton_of
from tessaron.core.plan.structure_changes import StructureMaker
from tessaron.core.plan.xml_carry import with_values_from_above
from tessaron.core.query.jsonpath import parse_path
from tessaron.core.query.xpath_location import parse_location
from tessaron.core.shape.recursion import level_between
from tessaron.core.shape.shape_node import ShapeNode
from tessaron.core.types.column_types import BOOLEAN, ColumnType


@dataclass(frozen=True)
class CompiledLayout(Plans):
    """A layout that can be run.

    Attributes:
        reading: How the source is read.
        wants_origin: Whether a column says where a record comes from.
        spelling: Reads paths as the layout spells them.
    """

    reading: ReadingPart = field(default_factory=ReadingPart)
    wants_origin: bool = False
    spelling: LayoutPaths = field(default_factory=JsonLayoutPaths)


def compile_layout(
    checked: CheckedLayout, source: str = "layout", secret: bytes = b"", strict: bool = False
) -> CompiledLayout:
    """Return a layout ready to run.

    Args:
        checked: The layout, its form checked.
        source: The file, or what stands for it, for messages.
        secret: What digest masks are made with.
        strict: Whether what numbered columns do not hold is a reject.

    Raises:
        LayoutError: With all that is wrong.
    """
    return _Compiler(checked, source, secret, strict).compile()


class _Compiler:
    def __init__(self, checked: CheckedLayout, source: str, secret: bytes, strict: bool):
        self._lines, self._source = checked.lines, source
        self._secret, self._strict = secret, strict
        self._faults: list[LayoutFault] = list(checked.faults)
        self._broken = {fault.keys[:-1] for fault in checked.faults} | {
            fault.keys for fault in checked.faults
        }
        self._part = part = with_places(with_rests(with_values_from_above(checked.part)), self.say)
        self._spelling: LayoutPaths = (
            XmlLayoutPaths(part) if part.reading.format == "xml" else JsonLayoutPaths()
        )
        self._structure = StructureMaker(part.structure, self._spelling, self.say)
        self._rows = RowsFinder(part.tables, self.say, self._spelling)
        self._maker = ColumnMaker(part.reading, self._spelling, self._rows, self.say)
        self._references = References(part, self._rows, self.say)
        self._columns: dict[str, TableColumns] = {}
        self._scope = ExpressionScope(self._columns, self._rows, self._maker.broken, self.say)

    def say(self, keys: Keys, message: str) -> None:
        """Keep a mistake; what only follows from one of form is not said."""
        keys = tuple(map(written_name, keys))
        fault = LayoutFault(keys, _NUMBERS.sub("", message), self._lines.line_of(keys))
        # What is wrong with a shared table would be said for each of its places.
        if keys not in self._broken and fault not in self._faults:
            self._faults.append(fault)

    def compile(self) -> CompiledLayout:
        part = self._part
        self._check_reading()
        changes = self._structure.make()
        self._rows.find_shared()
        places = {name: self._rows.place(name) for name in part.tables}
        for name, table in part.tables.items():
            self._columns[name] = self._maker.make(name, table)
        records = [name for name, place in places.items() if not place.is_around]
        around = [name for name, place in places.items() if place.is_around]
        plan = self._plan(records, changes, self._structure.again())
        if trees := self._structure.gathered():
            plan = replace(plan, gathered=trees, selection=UngatheredSelection(plan.selection, trees))
        # Documents are counted: what stands around records is no record of its own.
        outer = None
        if around:
            outer = self._plan(around, [], self._structure.again(is_around=True))
            outer = replace(
                outer, has_digest_keys=False, natural_key=(), containers=self._references.containers()
            )
        keys = {name: tuple(table.key) for name, table in part.tables.items() if table.key}
        self._check_shared(plan)
        self._check_keys(keys)
        self._references.check(plan, outer)
        for at, message in find_cycles(plan.tables):
            self.say(at, message)
        if self._faults:
            raise LayoutError(self._faults, self._source)
        plans = [*plan.tables, *(outer.tables if outer else ())]
        return CompiledLayout(
            plan,
            outer,
            {written_name(name): columns for name, columns in keys.items()},
            tuple(_uniques(plans)),
            self._paths(),
            part.reading,
            any(_origin_of(each) in _PLACES for table in plans for each in table.columns),
            self._spelling,
        )

    def _paths(self) -> dict[str, str]:
        found: dict[str, str] = {}
        for name, columns in self._columns.items():
            shown = written_name(name)
            text = self._rows.text(name)
            found[shown] = f"{found[shown]}, {text}" if shown in found else text
            for each in columns.plans:
                if each.source is not None and not isinstance(
                    each.source.path[-1:] and each.source.path[-1], Origin
                ):
                    found[f"{shown}.{each.name}"] = each.text
        return found

    def _check_shared(self, plan: LayingPlan) -> None:
        """Check that what the rows of shared tables refer to is one table, whatever their place."""
        for name, members in plan.shared.items():
            keys = ("tables", name, "shared")
            if len({(each.within_key, each.through and written_name(each.through)) for each in members}) > 1:
                self.say(
                    keys, "at some of these places the structure contains itself otherwise than at others"
                )
            if any(each.parent is None and not each.once for each in members):
                self.say(keys, "expected paths of what stands in rows of another table, got the records")

    def _check_reading(self) -> None:
        records = self._part.reading.records
        if records is not None:
            try:
                (parse_location if self._part.reading.format == "xml" else parse_path)(records)
            except UsageError as error:
                self.say(("reading", "records"), str(error))

    def _check_keys(self, keys: Mapping[str, tuple[str, ...]]) -> None:
        for name, columns in keys.items():
            known = self._columns[name].names()
            for column in columns:
                plan = self._columns[name].plan(column) if column in known else None
                if plan is not None and (plan.hidden or not self._part.tables[name].write):
                    self.say(("tables", name, "key"), f"{column} is not written, so it cannot be a key")
                if column not in known:
                    self.say(
                        ("tables", name, "key"),
                        f"no column {in_quotes(column)} in {name}; {nearest(column, known)}",
                    )

    def _plan(self, names: list[str], changes: list[Rearrangement], again: dict[Path, Path]) -> LayingPlan:
        changes = [*changes, *(change for name in names for change in self._rows.changes(name))]
        levels = [self._rows.level(name) for name in names]
        paths: list[Path] = []
        for name in names:
            paths += [each.source.path for each in self._columns[name].plans if each.source is not None]
            paths += [limit.source.path for limit in self._columns[name].limits]
        dictionaries = [(*path, ENTRY) for path in self._structure.dictionaries()]
        scalars = self._scalar_levels(names)
        columns = [path for path in paths if path[-1:] not in NOT_SCALAR or path in scalars]
        dictionaries += [
            change.path[: count + 1]
            for change in changes
            for count, step in enumerate(change.path)
            if step is ENTRY
        ]
        skeleton = skeleton_of([*levels, *dictionaries, *paths], columns, again)
        self._check_dictionaries(skeleton)
        tables = [self._table(name, names, skeleton) for name in names]
        if all(table.level for table in tables):
            tables.insert(0, TablePlan("(records)", (), ()))
        natural = next((self._part.tables[t.name].key for t in tables if not t.level and t.name in names), [])
        return LayingPlan(
            tuple(tables),
            tuple(changes),
            skeleton,
            self._selection([*levels, *paths], names, changes, again),
            self._secret,
            self._strict,
            tuple(natural),
            self._part.reading.keys == "digest",
            tuple(rest_of(table, tables) for table in tables if keeps_rest(table)),
            self._part.exact,
        )

    def _check_dictionaries(self, skeleton: ShapeNode) -> None:
        """Check that no object's names are keys for one path and fields for another."""
        pending: list[tuple[ShapeNode, Path]] = [(skeleton, ())]
        while pending:
            node, path = pending.pop()
            if ENTRY in node.children and node.members():
                name = next(iter(node.members()))
                shown = format_path(path)
                self.say(
                    (),
                    f"the names at {shown} are keys for one path ({shown}.*), but "
                    f"{in_quotes(name)} is a field",
                )
            pending += [(child, (*path, step)) for step, child in node.children.items()]

    def _selection(
        self, paths: list[Path], names: list[str], changes: list[Rearrangement], again: dict[Path, Path]
    ) -> PathSelection:
        scalars, subtrees = [], []
        for change in changes:
            if change.kind in ("union", "parallel"):
                subtrees += list(change.detail)
            elif change.kind in ("embedded", "split"):
                scalars.append(change.path)
            else:
                subtrees.append(change.path)
                scalars += [change.detail] if change.kind == "named_rows" else []
        levels = [self._rows.level(name) for name in names]
        counted = {
            each.source.path
            for name in names
            for each in self._columns[name].plans
            if each.source is not None and each.fold == "count"
        }
        wanted = self._scalar_levels(names) | counted
        known = set(levels)
        columns = [path for path in paths if path not in known or path in wanted]
        rows = [*levels, *(path for path in paths if path and path[-1] in (ELEMENT, ENTRY))]
        return PathSelection([*columns, *scalars], rows, subtrees, again)

    def _scalar_levels(self, names: list[str]) -> set[Path]:
        return {
            each.source.path
            for name in names
            for each in self._columns[name].plans
            if each.source is not None and each.source.path == each.source.level and each.fold != "count"
        }

    def _table(self, name: str, names: list[str], skeleton: ShapeNode) -> TablePlan:
        part, columns = self._part.tables[name], self._columns[name]
        level = self._rows.level(name)
        plans = tuple(self._finished(plan, part) for plan in columns.plans)
        columns.plans = list(plans)
        keep = self._scope.checked(("tables", name, "keep"), name, part.keep, BOOLEAN)
        output, written = self._output(name, part, plans)
        above = self._rows.parent(name, names)
        made = TablePlan(
            name, level, plans, None, tuple(output), keep, part.with_empty,
            tuple(self._multiplied(name, part)), tuple(columns.limits), above, part.only_filled,
            part.once_columns(),
        )  # fmt: skip
        self._check_once(name, part, plans)
        if part.only_filled and not any(_is_value(plan) for plan in plans):
            self.say(("tables", name, "only_filled"), "expected columns with a path, to look for values in")
        if not part.write:
            return made
        return replace(made, table=self._written(name, part, made, written, names, skeleton))

    def _check_once(self, name: str, part: TablePart, plans: tuple[ColumnPlan, ...]) -> None:
        if part.once is None:
            return
        keys = ("tables", name, "once")
        known = {plan.name: plan for plan in plans if _is_value(plan)}
        if part.only_filled or part.with_empty or part.multiply or part.key:
            self.say(keys, "a table with once has no only_filled, with_empty, multiply or key")
        if not part.once_columns():
            self.say(keys, "expected at least one column")
        for column in part.once_columns():
            if column not in known:
                near = nearest(column, known)
                self.say(keys, f"no column {in_quotes(column)} with a path in {name}; {near}")
            elif known[column].hidden:
                self.say(keys, f"{column} is not written, so nothing can be looked up by it")

    def _multiplied(self, name: str, part: TablePart) -> list[str]:
        found = []
        for other in part.multiply:
            if other not in self._columns:
                self.say(
                    ("tables", name, "multiply"),
                    f"no table {in_quotes(other)}; {nearest(other, self._columns)}",
                )
            elif not self._is_broken(name, other) and self._scope.relation(name, other) != "aside":
                self.say(("tables", name, "multiply"), f"{other} does not stand beside {name}")
            else:
                found.append(other)
        return found

    def _is_broken(self, *names: str) -> bool:
        return any(self._rows.place(name).is_broken for name in names)

    def _finished(self, plan: ColumnPlan, part: TablePart) -> ColumnPlan:
        """Return a column with its expression checked and its type known."""
        if plan.text and plan.source is None:
            typed = self._scope.typed_value(plan.table, plan.name)
            is_known = (plan.table, plan.name) not in self._maker.broken
            plan = replace(
                plan, value=typed, type=self._scope.type_of(plan.table, plan.name) if is_known else plan.type
            )
        keys = ("tables", plan.table, "columns", self._columns[plan.table].keys[plan.name])
        if part.columns[keys[-1]].unique and (plan.hidden or not part.write):
            self.say((*keys, "unique"), "only what is written can be checked to be unique")
        return self._maker.with_conditions(plan, part, keys)

    def _output(
        self, name: str, part: TablePart, plans: tuple[ColumnPlan, ...]
    ) -> tuple[list[tuple[str, str]], list[Column]]:
        own = [plan for plan in plans if not plan.hidden]
        taken = Names([plan.name for plan in own])
        output: list[tuple[str, str]] = []
        columns: list[Column] = []
        for other, column in self._carried(name, part):
            shown = taken.claim_of(other, column)
            output.append((other, column))
            kind = (
                ColumnType("text")
                if (other, column) in self._maker.broken
                else self._scope.type_of(other, column)
            )
            columns.append(Column(shown, (), kind, shown=f"{other}.{column}"))
        for plan in own:
            path = plan.source.path if plan.source is not None else ()
            output.append((name, plan.name))
            columns.append(Column(plan.name, path, plan.type, shown=plan.text, written=plan.written))
        return output, columns

    def _carried(self, name: str, part: TablePart) -> list[tuple[str, str]]:
        found: list[tuple[str, str]] = []
        for number, text in enumerate(part.carry, 1):
            keys = ("tables", name, "carry", str(number))
            other, _, column = text.partition(".")
            if other not in self._columns or not column:
                self.say(
                    keys, f"expected table.column, got {in_quotes(text)}; {nearest(other, self._columns)}"
                )
                continue
            known = self._columns[other].names()
            if self._is_broken(name, other):
                continue
            if self._scope.relation(name, other) not in ("above", "same") and other not in part.multiply:
                self.say(keys, f"{other} is not above {name}")
            elif column == "*":
                found += [(other, each.name) for each in self._columns[other].plans if not each.hidden]
            elif column not in known:
                self.say(keys, f"no column {in_quotes(column)} in {other}; {nearest(column, known)}")
            else:
                found.append((other, column))
        return found

    def _written(
        self,
        name: str,
        part: TablePart,
        plan: TablePlan,
        columns: list[Column],
        names: list[str],
        skeleton: ShapeNode,
    ) -> Table:
        taken = Names([column.name for column in columns])
        parent = None if part.once else self._rows.written_parent(name, names)
        is_aside = parent is not None and self._rows.level(parent) == plan.level
        owner = skeleton.find(plan.level[:-1]) if plan.level else None
        is_part = bool(part.once) or (is_aside and part.only_filled)
        is_recursive = owner is not None and owner.is_recursive and not is_part
        is_recursive &= owner is not None and plan.level[-1:] == (owner.rows_step,)
        between = None if owner is None or not is_recursive else level_between(owner)
        through = None if between is None else self._table_at(skeleton, between, names)
        has_ordinal = parent is not None and not plan.is_flat and not is_aside
        wanted = {
            ROW_KEY: part.row_key or ROW_KEY,
            PLACE: (part.place or PLACE) if part.shared and not part.once else None,
            PARENT_KEY: (part.parent_key or PARENT_KEY) if parent else None,
            ORDINAL: (part.ordinal or ORDINAL) if has_ordinal else None,
            WITHIN_KEY: WITHIN_KEY if is_recursive else None,
            THROUGH_KEY: THROUGH_KEY if through else None,
        }
        keys = {key: None if shown is None else taken.claim_of(name, shown) for key, shown in wanted.items()}
        documents = next((column.name for column in columns if column.path[-1:] == (Origin.DOCUMENT,)), None)
        around = self._references.documents
        digest = self._part.reading.keys == "digest"
        return Table(
            name, plan.level, parent, str(keys[ROW_KEY]), keys[PARENT_KEY], keys[ORDINAL], tuple(columns),
            keys[WITHIN_KEY], keys[THROUGH_KEY], through, documents if around else None, around,
            "text" if digest and not part.around else "integer",
            tuple(key for key in (keys[PARENT_KEY], keys[ORDINAL]) if key and part.with_empty),
            *self._references.enclosing(name, columns), part.only_filled, part.once_columns(),
            place_key=keys[PLACE], place=part.shared[0] if part.shared else "",
        )  # fmt: skip

    def _table_at(self, skeleton: ShapeNode, node: ShapeNode, names: list[str]) -> str | None:
        return next((each for each in names if skeleton.find(self._rows.level(each)) is node), None)


_NUMBERS = re.compile("\0[0-9]+")
_PLACES = frozenset((Origin.FILE, Origin.RECORD, Origin.LINE, Origin.NUMBER))


def _origin_of(plan: ColumnPlan) -> Any:
    return plan.source.path[-1] if plan.source is not None and plan.source.path else None


def _uniques(plans: Iterable[TablePlan]) -> Iterator[ColumnPlan]:
    """Yield the columns of which every value must be there once, those of a shared table once, too."""
    seen = set()
    for table in plans:
        for each in table.columns:
            at = written_name(table.name), each.name
            if each.conditions.unique and at not in seen:
                seen.add(at)
                yield replace(each, table=at[0])


def _is_value(plan: ColumnPlan) -> bool:
    return plan.source is not None and not isinstance(_origin_of(plan), Origin)
