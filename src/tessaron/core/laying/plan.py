"""A layout made ready: what a fragment needs to become the rows of its tables. Plain data."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any, Literal

from tessaron.core.expressions import Typed
from tessaron.core.layout import Table, TableSet
from tessaron.core.paths import ABOVE, Path
from tessaron.core.rebuilding.rest import RestPlan
from tessaron.core.typing.fitting import PLAIN, Spelling
from tessaron.core.typing.types import ColumnType

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
    """How its values stand in the source, where the layout says so; see `typing.written`."""


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


@dataclass(frozen=True, slots=True)
class LayingPlan:
    """All that turns fragments into rows.

    Attributes:
        tables: All tables, parents before children.
        rearrangements: Changes of structure, in their order.
        skeleton: The structure that tables and columns suppose, as `shape.pack_nodes` packs it.
        selection: The paths that are parsed, as a tree; see `selecting`.
        secret: What digest masks are made with.
        strict: Whether what does not fit numbered columns is a reject.
        natural_key: Columns of the top table that digest keys are made of.
        has_digest_keys: Whether keys are digests.
        rests: The tables that keep the rest of their rows.
        exact: Whether that holds all that is null or empty.
        containers: The paths, without steps to each element, of elements of XML in which records stand: what
            holds only records holds nothing that could be left out.
    """

    tables: tuple[TablePlan, ...]
    rearrangements: tuple[Rearrangement, ...]
    skeleton: Any
    selection: Any = None
    secret: bytes = b""
    strict: bool = False
    natural_key: tuple[str, ...] = ()
    has_digest_keys: bool = False
    rests: tuple[RestPlan, ...] = ()
    exact: bool = False
    containers: frozenset[Path] = frozenset()

    def written(self) -> TableSet:
        """Return the tables that are written."""
        tables = tuple(each.table for each in self.tables if each.table)
        return TableSet(tables, self.natural_key, self.exact)

    def table(self, name: str) -> TablePlan:
        """Return a table by its name."""
        return next(each for each in self.tables if each.name == name)


def is_turned_back(column: ColumnPlan, table: TablePlan) -> bool:
    """Say whether the values that stood at a column's path can be made again from it."""
    source, spelling = column.source, column.spelling
    if source is None or str(source.path[:1] and source.path[0]).startswith(ABOVE):
        return False
    if source.picks or source.level != table.level or column.fold not in (None, "json"):
        return False
    is_plain = (spelling.format, spelling.unit, spelling.zone) == (None, None, None)
    is_plain &= spelling.decimal == "." and not spelling.grouping
    untouched = not column.cleaning.changes_texts and column.cleaning.default is None
    return is_plain and untouched and column.mask is None and not column.hidden
