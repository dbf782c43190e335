"""The columns of a layout's tables: their paths, types, rules and folds."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from tessaron.core.base.arrays import ArrowArray
from tessaron.core.base.naming import snake_case
from tessaron.core.base.paths import ENCLOSING, TEXT_STEP, Origin, Path, level_of
from tessaron.core.base.visible import in_quotes
from tessaron.core.expressions.folding import folded_type
from tessaron.core.expressions.typed import family
from tessaron.core.layout.layout_model import ColumnPart, ReadingPart, TablePart
from tessaron.core.layout.layout_paths import LayoutPathError, LayoutPaths
from tessaron.core.layout.toml_lines import Keys
from tessaron.core.plan.plan import Cleaning, ColumnPlan, Conditions, Limit, Source
from tessaron.core.plan.rows_finding import RowsFinder
from tessaron.core.query.iregexp import parse_iregexp
from tessaron.core.types.column_types import (
    BOOLEAN,
    DECIMAL_DIGITS,
    INTEGER,
    TEXT,
    ColumnType,
    TypeSpellingError,
    parse_type,
)
from tessaron.core.types.date_formats import DateFormatError, parts_of_format
from tessaron.core.types.fitting import Spelling, fit_texts
from tessaron.core.types.written import fault_of as written_fault

_ORIGIN_TYPES = {
    Origin.RECORD: INTEGER,
    Origin.LINE: INTEGER,
    Origin.DOCUMENT: INTEGER,
    **dict.fromkeys(ENCLOSING, INTEGER),
    Origin.DEPTH: INTEGER,
}
_FOLDS_WITH_TYPE = {
    "joined": TEXT,
    "count": INTEGER,
    "count_distinct": INTEGER,
    "any": BOOLEAN,
    "all": BOOLEAN,
}
_DATED = ("date", "time", "timestamp", "timestamp_tz")
_MEAN_INSIDE = ColumnType("decimal", DECIMAL_DIGITS - 10, 9)


@dataclass
class TableColumns:
    """The columns of one table: what is known of them before expressions are checked."""

    plans: list[ColumnPlan] = field(default_factory=list)
    limits: list[Limit] = field(default_factory=list)
    declared: dict[str, ColumnType] = field(default_factory=dict)
    keys: dict[str, str] = field(default_factory=dict)
    """For each column the key in the layout that made it."""

    def names(self) -> list[str]:
        """Return the names of the columns."""
        return [plan.name for plan in self.plans]

    def plan(self, name: str) -> ColumnPlan:
        """Return a column by its name."""
        return next(plan for plan in self.plans if plan.name == name)


class ColumnMaker:
    """Makes the columns of tables; mistakes are said."""

    def __init__(
        self, reading: ReadingPart, paths: LayoutPaths, rows: RowsFinder, say: Callable[[Keys, str], None]
    ):
        self._paths = paths
        self.broken: set[tuple[str, str]] = set()
        """Columns whose type is not known because of a mistake, as table and name."""
        self._reading = reading
        self._rows = rows
        self._say = say

    def make(self, table: str, part: TablePart) -> TableColumns:
        """Return the columns of a table that has a place."""
        columns = TableColumns()
        owners: dict[str, str] = {}
        for name, column in part.columns.items():
            keys = ("tables", table, "columns", name)
            for plan in self._plans(table, name, column, keys, columns):
                owner = owners.setdefault(plan.name.lower(), plan.name)
                if owner in columns.keys:
                    self._say(keys, f"the name {in_quotes(plan.name)} is taken by {columns.keys[owner]}")
                    continue
                columns.keys[plan.name] = name
                columns.plans.append(plan)
        return columns

    def _plans(
        self, table: str, name: str, part: ColumnPart, keys: Keys, columns: TableColumns
    ) -> list[ColumnPlan]:
        given = [key for key in ("path", "value", "origin") if getattr(part, key) is not None]
        if len(given) != 1:
            got = " and ".join(given) or "none of them"
            self._say(keys, f"expected one of path, value and origin, got {got}")
            return []
        kind = self._type(part, keys)
        if kind is None and part.type is not None:
            self.broken.add((table, name))
            kind = TEXT
        if kind is not None:
            columns.declared[name] = kind
        plan = ColumnPlan(
            table, name, kind or TEXT, text=part.path or part.value or "",
            cleaning=self._cleaning(part), spelling=self._spelling(part, kind, keys), misfit=part.misfit,
            mask=part.mask, mask_text=part.mask_text, hidden=part.hidden or part.mask == "drop",
            written=part.written or "",
        )  # fmt: skip
        self._check_mask(part, kind, keys)
        if part.origin is not None:
            return [self._origin(plan, part, kind)]
        if part.value is not None:
            self._refuse(part, keys, ("fold", "separator", "position", "flags", "numbered"), "value")
            return [plan]
        return self._from_path(plan, part, kind, keys, columns)

    def _refuse(self, part: ColumnPart, keys: Keys, names: tuple[str, ...], what: str) -> None:
        for name in names:
            if getattr(part, name) is not None:
                self._say((*keys, name), f"{name} does not go with {what}")

    def _check_mask(self, part: ColumnPart, kind: ColumnType | None, keys: Keys) -> None:
        if part.mask in ("constant", "digest") and kind is not None and kind.name not in ("text", "uuid"):
            self._say((*keys, "mask"), f'a masked column is text, not {kind}; write type = "text"')

    def _type(self, part: ColumnPart, keys: Keys) -> ColumnType | None:
        if part.type is None:
            return None
        try:
            return parse_type(part.type)
        except TypeSpellingError as error:
            self._say((*keys, "type"), str(error))
            return None

    def _cleaning(self, part: ColumnPart) -> Cleaning:
        nulls = tuple(dict.fromkeys([*self._reading.nulls, *part.nulls]))
        return Cleaning(part.trim, nulls, part.case, part.replace)

    def _spelling(self, part: ColumnPart, kind: ColumnType | None, keys: Keys) -> Spelling:
        name = kind.name if kind is not None else ""
        for key, types in _GO_WITH.items():
            if getattr(part, key) not in (None, "", ".") and name not in types:
                shown = ", ".join(types)
                self._say((*keys, key), f"{key} goes with the types {shown}, not with {name or 'none'}")
        if part.format is not None:
            try:
                parts_of_format(part.format)
            except DateFormatError as error:
                self._say((*keys, "format"), str(error))
        if part.decimal == part.grouping:
            self._say((*keys, "grouping"), "the decimal sign cannot stand between groups too")
        if part.written is not None and kind is not None and (wrong := written_fault(part.written, kind)):
            self._say((*keys, "written"), wrong)
        words = None if part.words is None else (part.words[0], part.words[1])
        if part.zone is not None:
            self._check_zone(part.zone, (*keys, "zone"))
        is_markup = self._reading.format == "xml"
        return Spelling(part.format, part.decimal, part.grouping, words, part.unit, part.zone, is_markup)

    def _check_zone(self, zone: str, keys: Keys) -> None:
        try:
            pc.assume_timezone(pa.array([0], pa.timestamp("s")), zone)
        except (pa.ArrowInvalid, pa.ArrowKeyError):
            self._say(
                keys,
                f"no time zone {in_quotes(zone)}; expected an IANA name such as Etc/UTC, or an "
                f"offset such as +01:00",
            )

    def _origin(self, plan: ColumnPlan, part: ColumnPart, kind: ColumnType | None) -> ColumnPlan:
        origin = Origin(part.origin)
        if origin is Origin.REST and kind not in (None, TEXT):
            self._say(("tables", plan.table, "columns", plan.name, "type"), f"row_rest is text, not {kind}")
        level = self._rows.level(plan.table)
        source = Source((*level, origin), level)
        return replace(plan, source=source, type=kind or _ORIGIN_TYPES.get(origin, TEXT), text="")

    def _from_path(
        self, plan: ColumnPlan, part: ColumnPart, kind: ColumnType | None, keys: Keys, columns: TableColumns
    ) -> list[ColumnPlan]:
        source = self._source(plan.table, str(part.path), keys)
        if source is None:
            return []
        level = self._rows.level(plan.table)
        is_below = len(source.level) > len(level)
        several = sum(getattr(part, key) is not None for key in ("fold", "flags", "numbered"))
        if several > 1:
            self._say(keys, "expected one of fold, flags and numbered, got several")
        if several and not is_below:
            self._say(keys, f"{part.path} has one value for each row of {plan.table}: nothing to fold")
            return []
        if is_below and not several and not self._is_picked(source, level):
            self._say(
                (*keys, "path"),
                f'{part.path} has many values for one row of {plan.table}; say fold = "first" (or joined, '
                "count, sum, …), or give them a table of their own",
            )
            return []
        if kind is None and part.fold not in (*_FOLDS_WITH_TYPE, "json") and part.flags is None:
            self._say(keys, 'expected a type, such as type = "text"')
            return []
        plan = replace(plan, source=source)
        if part.flags is not None:
            return self._flags(plan, part, columns)
        if part.numbered is not None:
            return self._numbered(plan, part, columns)
        return [self._folded(plan, part, kind, keys)]

    def _is_picked(self, source: Source, level: Path) -> bool:
        """Say whether only one element counts on every level between."""
        at = source.level
        picked = {each for each, _ in source.picks}
        while len(at) > len(level):
            if at not in picked:
                return False
            at = level_of(at[:-1])
        return True

    def _source(self, table: str, text: str, keys: Keys) -> Source | None:
        try:
            path = self._paths.column(text, self._rows.level(table), table)
        except LayoutPathError as error:
            self._say((*keys, "path"), str(error))
            return None
        path = self._rows.through_objects(path)
        level, mine = level_of(path.steps), self._rows.level(table)
        if level[: len(mine)] != mine and mine[: len(level)] != level:
            self._say(
                (*keys, "path"),
                f"{text} stands neither in the rows of {table} ({self._rows.text(table)}) nor above them",
            )
            return None
        picks = tuple((path.steps[:count], index) for count, index in path.picks)
        return Source(path.steps, level, picks)

    def _flags(self, plan: ColumnPlan, part: ColumnPart, columns: TableColumns) -> list[ColumnPlan]:
        assert plan.source is not None
        assert part.flags is not None
        columns.limits.append(
            Limit(plan.name, plan.text, plan.source, None, tuple(part.flags), plan.cleaning)
        )
        return [
            replace(
                plan, name=f"{plan.name}_{snake_case(value) or number}", type=BOOLEAN, inner_type=TEXT,
                fold="flag", details={"value": value},
            )
            for number, value in enumerate(part.flags, 1)
        ]  # fmt: skip

    def _numbered(self, plan: ColumnPlan, part: ColumnPart, columns: TableColumns) -> list[ColumnPlan]:
        assert plan.source is not None
        assert part.numbered is not None
        columns.limits.append(Limit(plan.name, plan.text, plan.source, part.numbered))
        return [
            replace(
                plan,
                name=f"{plan.name}_{number}",
                inner_type=plan.type,
                fold="nth",
                details={"position": number},
            )
            for number in range(1, part.numbered + 1)
        ]

    def _folded(self, plan: ColumnPlan, part: ColumnPart, kind: ColumnType | None, keys: Keys) -> ColumnPlan:
        assert plan.source is not None
        if part.fold == "json" or (kind is not None and kind.name in ("json", "xml")):
            self._check_whole(part, kind, keys)
            path = plan.source.path
            source = replace(
                plan.source, path=(*(path[:-1] if path[-1:] == (TEXT_STEP,) else path), Origin.JSON)
            )
            plan = replace(plan, source=source, type=ColumnType("json") if kind is None else kind)
            if part.fold not in (None, "json", "first", "last", "nth"):
                self._say((*keys, "fold"), f"{part.fold} cannot be made of json")
        if part.position is not None and part.fold != "nth":
            self._say((*keys, "position"), 'position goes with fold = "nth"')
        if part.separator is not None and part.fold != "joined":
            self._say((*keys, "separator"), 'separator goes with fold = "joined"')
        if part.fold is None:
            return replace(plan, inner_type=plan.type)
        assert plan.source is not None
        path = plan.source.path
        if part.fold == "count" and path[-1:] == (TEXT_STEP,) and path[:-1] == plan.source.level:
            # Elements are counted, whether there is text in them or not.
            plan = replace(plan, source=replace(plan.source, path=path[:-1]))
        return self._with_fold(plan, part, kind, keys)

    def _check_whole(self, part: ColumnPart, kind: ColumnType | None, keys: Keys) -> None:
        """Check that what is kept as a whole is kept as what it is written in."""
        if kind is not None and kind.name == "xml" and str(part.path).rpartition("/")[2][:1] == "@":
            self._say((*keys, "type"), 'xml is the markup of an element; an attribute has type = "text"')
        wanted = "json" if part.fold == "json" or kind is None else kind.name
        if wanted != self._reading.format:
            key = "fold" if part.fold == "json" else "type"
            self._say((*keys, key), f"{wanted} goes with sources of {wanted.upper()}; this one is "
                      f"{self._reading.format.upper()}")  # fmt: skip

    def _with_fold(
        self, plan: ColumnPlan, part: ColumnPart, kind: ColumnType | None, keys: Keys
    ) -> ColumnPlan:
        details: dict[str, Any] = {}
        if part.fold == "joined":
            details["separator"] = ", " if part.separator is None else part.separator
        if part.fold == "nth":
            if not part.position:
                self._say(keys, 'fold = "nth" takes a position, from 1 or from the end (-1)')
            details["position"] = part.position or 1
        target = kind or _FOLDS_WITH_TYPE.get(str(part.fold), plan.type)
        inner = _inner_type(str(part.fold), target)
        made = folded_type("first" if part.fold == "nth" else str(part.fold), inner)
        if made is None:
            self._say((*keys, "fold"), f"{part.fold} cannot be made of {inner}")
        elif family(made) != family(target) and target.name != "text":
            self._say((*keys, "type"), f"{part.fold} gives {made.name}, which cannot become {target}")
        return replace(plan, type=target, inner_type=inner, fold=part.fold, details=details)

    def with_conditions(self, plan: ColumnPlan, part: TablePart, keys: Keys) -> ColumnPlan:
        """Return a column whose type is known with its conditions and default."""
        column = part.columns[keys[-1]]
        given = {name: getattr(column, name) for name in ("default", "least", "most")}
        values = {name: self._constant(value, plan.type, (*keys, name)) for name, value in given.items()}
        allowed = None
        if column.allowed is not None:
            found = [self._constant(value, plan.type, (*keys, "allowed")) for value in column.allowed]
            allowed = tuple(value for value in found if value is not None)
        if column.pattern is not None and parse_iregexp(column.pattern) is None:
            self._say((*keys, "pattern"), f"{in_quotes(column.pattern)} is no regular expression of RFC 9485")
        least, most = values["least"], values["most"]
        if least is not None and most is not None and least > most:
            self._say(
                (*keys, "least"), f"{in_quotes(column.least)} is more than most = {in_quotes(column.most)}"
            )
        cleaning = replace(plan.cleaning, default=_scalar(values["default"], plan.type))
        conditions = Conditions(
            column.required, column.unique, allowed, least, most, column.pattern, column.failed
        )
        return replace(plan, cleaning=cleaning, conditions=conditions)

    def _constant(self, value: object, kind: ColumnType, keys: Keys) -> ArrowArray:
        """Return a value of the layout in a column's type."""
        if value is None:
            return None
        text = str(value).lower() if isinstance(value, bool) else str(value)
        made, bad = fit_texts(pa.array([text], pa.large_string()), kind)
        if bad[0]:
            self._say(keys, f"expected {kind}, got {in_quotes(value)}")
            return None
        return made[0].as_py()


_GO_WITH = {
    "format": _DATED,
    "unit": ("date", "timestamp", "timestamp_tz"),
    "zone": ("timestamp_tz",),
    "words": ("boolean",),
    "decimal": ("integer", "decimal", "double"),
    "grouping": ("integer", "decimal", "double"),
}
"""For each key of a spelling the types it goes with."""


def _scalar(value: object, kind: ColumnType) -> ArrowArray:
    return None if value is None else pa.scalar(value, kind.arrow_type())


def _inner_type(fold: str, target: ColumnType) -> ColumnType:
    """Return the type in which single values are read, for a fold whose result has a type."""
    if fold in ("joined", "count_distinct", "count"):
        return TEXT
    if fold == "json":
        return ColumnType("json")
    if fold == "mean":
        return target if target.name == "double" else _MEAN_INSIDE
    return target
