"""A layout made ready: what a fragment needs to become the rows of its tables. Plain data."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import TYPE_CHECKING, Any, Literal

from tessaron.core.base.paths import ABOVE, Path, is_markup
from tessaron.core.layout.table_set import Table, TableSet, by_written_name, written_tables
from tessaron.core.shape.shape_node import ShapeNode
from tessaron.core.tape.gathering import Gathered
from tessaron.core.types.column_types import ColumnType
from tessaron.core.types.fitting import PLAIN, Spelling

if TYPE_CHECKING:
    from tessaron.core.expressions.typed import Typed
    from tessaron.core.plan.rest_plans import RestPlan

Outcome = Literal["value", "record", "note", "stop"]


@dataclass(frozen=True, slots=True)
class Source:
    """Where the values of a column stand.

    Attributes:
        path: From the record.
        level: The level on which they stand: the longest part of the path that ends with a step to each.
        picks: Levels of which only one element counts, with its index from 0 or, negative, from the end.
    """

    path: Path
    level: Path
    picks: tuple[tuple[Path, int], ...] = ()

    @property
    def is_above(self) -> bool:
        """Whether they stand in an element of XML around the record."""
        return str(self.path[:1] and self.path[0]).startswith(ABOVE)


@dataclass(frozen=True, slots=True)
class Cleaning:
    """What is done to texts before they are read, and where there is no value after it."""

    trim: bool = False
    nulls: tuple[str, ...] = ()
    case: Literal["upper", "lower"] | None = None
    replace: Mapping[str, str] = field(default_factory=dict)
    default: Any = None

    @property
    def changes_texts(self) -> bool:
        """Whether texts may come out otherwise than they went in."""
        return self.trim or bool(self.nulls or self.case or self.replace)


@dataclass(frozen=True, slots=True)
class Conditions:
    """What must hold for the values of a column; ends and choices are values of its type."""

    required: bool = False
    unique: bool = False
    allowed: tuple[Any, ...] | None = None
    least: Any = None
    most: Any = None
    pattern: str | None = None
    failed: Outcome = "record"

    @property
    def are_given(self) -> bool:
        """Whether there is any but uniqueness, which is checked over the whole run."""
        given = (self.allowed, self.least, self.most, self.pattern)
        return self.required or any(each is not None for each in given)


@dataclass(frozen=True, slots=True)
class ColumnPlan:
    """One column: where its values come from, and what is done to them."""

    table: str
    name: str
    type: ColumnType
    source: Source | None = None
    value: Typed | None = None
    text: str = ""
    """The path or expression, as the layout spells it."""
    inner_type: ColumnType | None = None
    """The type of the single values, where several are folded into one."""
    fold: str | None = None
    details: Mapping[str, Any] = field(default_factory=dict)
    cleaning: Cleaning = Cleaning()
    spelling: Spelling = PLAIN
    conditions: Conditions = Conditions()
    misfit: Outcome = "value"
    mask: Literal["drop", "constant", "digest"] | None = None
    mask_text: str = ""
    hidden: bool = False
    written: str = ""
    """How its values stand in the source, where the layout says so; see `types.written`."""

    @property
    def value_type(self) -> ColumnType:
        """The type of the values at the source."""
        return self.inner_type or self.type

    @property
    def drops_empty(self) -> bool:
        """Whether an empty text is no value: an empty element of XML, where the type is not text."""
        return self.spelling.of_markup and self.value_type.name != "text"

    def fit_key(self) -> Any:
        """Return what the values at the source depend on: columns that have the same share the work."""
        cleaning = self.cleaning
        cleaned = (cleaning.trim, cleaning.nulls, cleaning.case, tuple(cleaning.replace.items()))
        path = None if self.source is None else self.source.path
        return path, self.value_type, self.spelling, cleaned


@dataclass(frozen=True, slots=True)
class Limit:
    """How many of the values at a source have columns: so many in front, or only these.

    Attributes:
        column: As the layout names it.
        text: Its path.
    """

    column: str
    text: str
    source: Source
    count: int | None = None
    known: tuple[str, ...] = ()
    cleaning: Cleaning = Cleaning()


@dataclass(frozen=True, slots=True)
class TablePlan:
    """One table of the layout.

    Attributes:
        name: Its name.
        level: The path of its rows.
        columns: Its own columns, in order, those that are not written included.
        table: What is written; None for a table that is only calculated with.
        output: For each column of `table`: the table and column it comes from.
        keep: The filter.
        with_empty: Whether rows above without rows here stay.
        only_filled: Whether only rows stay in which one of its columns has a value.
        once: The columns of which each value has one row in the whole run.
        multiply: Tables whose rows each row is paired with.
        limits: Where more values may come than there are columns.
        parent: The table whose rows these belong to, written or not.
    """

    name: str
    level: Path
    columns: tuple[ColumnPlan, ...]
    table: Table | None = None
    output: tuple[tuple[str, str], ...] = ()
    keep: Typed | None = None
    with_empty: bool = False
    multiply: tuple[str, ...] = ()
    limits: tuple[Limit, ...] = ()
    parent: str | None = None
    only_filled: bool = False
    once: tuple[str, ...] = ()

    @property
    def is_flat(self) -> bool:
        """Whether its rows are not simply those of its level."""
        return self.with_empty or bool(self.multiply)


@dataclass(frozen=True, slots=True)
class Rearrangement:
    """One change of structure; `kind` is a key of `restructure.REARRANGE`.

    Attributes:
        path: Where.
        detail: What else it needs.
        text: The path as the layout spells it.
    """

    kind: str
    path: Path
    detail: Any = None
    text: str = ""


@dataclass(frozen=True)
class LayingPlan:
    """All that turns fragments into rows.

    Attributes:
        tables: All tables, parents before children; one for each place of a shared table.
        rearrangements: Changes of structure, in their order.
        skeleton: The structure that tables and columns suppose, settled.
        gathered: Trees whose nodes come together before all else.
        selection: The paths that are parsed, as a tree; see `selecting`.
        secret: What digest masks are made with.
        strict: Whether what does not fit numbered columns is a reject.
        natural_key: Columns of the top table that digest keys are made of.
        has_digest_keys: Whether keys are digests.
        rests: The tables that keep the rest of their rows.
        exact: Whether that holds all that is null or empty.
        containers: The paths, without steps to each element, of elements of XML in which records stand: what
            holds only records holds nothing that could be left out.
        is_drafted: Whether it was drafted from the data themselves: all of them have a column, but for empty
            elements of XML, and what was read is counted while the structure is learnt.
        left_out_before: Places, as they are shown, at and below which no column is expected; a value at any
            other place without one is rejected then. None where nothing is said of such values.
    """

    tables: tuple[TablePlan, ...]
    rearrangements: tuple[Rearrangement, ...]
    skeleton: ShapeNode
    selection: Any = None
    secret: bytes = b""
    strict: bool = False
    natural_key: tuple[str, ...] = ()
    has_digest_keys: bool = False
    rests: tuple[RestPlan, ...] = ()
    exact: bool = False
    containers: frozenset[Path] = frozenset()
    is_drafted: bool = False
    gathered: tuple[Gathered, ...] = ()
    left_out_before: frozenset[str] | None = None

    def written(self) -> TableSet:
        """Return the tables that are written."""
        return self._written

    @cached_property
    def _written(self) -> TableSet:
        tables = written_tables(each.table for each in self.tables if each.table)
        return TableSet(tables, self.natural_key, self.exact)

    @cached_property
    def shared(self) -> Mapping[str, tuple[Table, ...]]:
        """The tables with the rows at each place, by the shared table that they are written as."""
        groups = by_written_name(each.table for each in self.tables if each.table is not None)
        return {name: tuple(group) for name, group in groups.items() if group[0].name != name}

    def table(self, name: str) -> TablePlan:
        """Return a table by its name."""
        return self._by_name[name]

    @cached_property
    def _by_name(self) -> dict[str, TablePlan]:
        return {table.name: table for table in self.tables}

    @cached_property
    def used_paths(self) -> frozenset[Path]:
        """The paths that columns, and what limits them, look at."""
        columns = [each.source for table in self.tables for each in table.columns]
        limits = [limit.source for table in self.tables for limit in table.limits]
        return frozenset(source.path for source in (*columns, *limits) if source is not None)

    @cached_property
    def forgetful(self) -> Mapping[Path, tuple[ColumnPlan, ...]]:
        """The columns of texts of JSON by path, where nothing else tells that a value was no text."""
        told = {path for rest in self.rests for path in rest.forms}
        found: dict[Path, tuple[ColumnPlan, ...]] = {}
        for column in (each for table in self.tables for each in table.columns):
            path = () if column.source is None else column.source.path
            is_text = column.value_type.name == "text" and column.fold is None and column.spelling.is_plain
            if is_text and column.source is not None and path not in told and not is_markup(path):
                found[path] = (*found.get(path, ()), column)
        return found

    @cached_property
    def with_filters(self) -> tuple[TablePlan, ...]:
        """The tables that have a filter."""
        return tuple(table for table in self.tables if table.keep is not None)


@dataclass(frozen=True)
class Plans:
    """All that a run makes tables by.

    Attributes:
        records: What is made of the records.
        around: What is made of what stands around them; None when that has no table.
        keys: Per table the columns of its natural key.
        uniques: The columns of which every value must be there once, with what follows else.
        paths: Tables and columns by name, with how the layout spells their path.
    """

    records: LayingPlan
    around: LayingPlan | None = None
    keys: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    uniques: tuple[ColumnPlan, ...] = ()
    paths: Mapping[str, str] = field(default_factory=dict)

    @property
    def has_masks(self) -> bool:
        """Whether a column hides the values of the source."""
        plans = (self.records, *(() if self.around is None else (self.around,)))
        return any(column.mask for plan in plans for table in plan.tables for column in table.columns)

    @property
    def multiplies(self) -> bool:
        """Whether a table pairs the rows of others."""
        return any(table.multiply for table in self.records.tables)

    @property
    def wants_above(self) -> bool:
        """Whether a column holds something of the elements that stand around records of XML."""
        plans = [column for table in self.records.tables for column in table.columns]
        return any(each.source is not None and each.source.is_above for each in plans)

    def telling_of_others(self, left_out_before: frozenset[str]) -> Plans:
        """Return plans by which all is parsed, and values without a column are rejected.

        Args:
            left_out_before: As in `LayingPlan`.
        """
        records = replace(self.records, selection=None, left_out_before=left_out_before)
        around = self.around
        if around is not None and not self.wants_above:
            # What columns of records take from above has no column around them.
            around = replace(around, left_out_before=left_out_before)
        return replace(self, records=records, around=around)

    def written(self) -> TableSet:
        """Return the tables that are written."""
        around = () if self.around is None else self.around.written().tables
        records = self.records.written()
        return replace(records, tables=(*around, *records.tables))


def is_turned_back(column: ColumnPlan, table: TablePlan) -> bool:
    """Say whether the values that stood at a column's path can be made again from it."""
    source, spelling = column.source, column.spelling
    if source is None or source.is_above:
        return False
    if source.picks or source.level != table.level or column.fold not in (None, "json"):
        return False
    untouched = not column.cleaning.changes_texts and column.cleaning.default is None
    return spelling.is_plain and untouched and column.mask is None and not column.hidden
