"""The statements that make tables: parents first, with keys, references, indexes and comments."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from itertools import pairwise
from typing import TYPE_CHECKING

from tessaron.core.base.naming import Names
from tessaron.core.base.paths import format_path
from tessaron.core.layout.table_set import Column, Table
from tessaron.core.types.column_types import TEXT
from tessaron.sinks.ddl.sql_dialects import SqlDialect

if TYPE_CHECKING:
    from tessaron.core.layout.layout_model import ColumnPart, LayoutPart, TablePart

_COMMENT_LETTERS = 1_024
"""Letters that MySQL takes for a comment on a column."""


class CreateTables:
    """Says how tables are made in a dialect.

    Args:
        dialect: The dialect.
        tables: The tables.
        schema: The schema that they stand in; None for the one that the database takes by itself.
        required: Columns, as `table.column`, that no row is without: see `required_columns`.

    Attributes:
        tables: The tables, each behind those that it refers to.
    """

    def __init__(
        self,
        dialect: SqlDialect,
        tables: Sequence[Table],
        schema: str | None = None,
        required: Collection[str] = (),
    ):
        self.dialect, self.schema = dialect, schema
        self.tables = parents_first(tables)
        self._places = {table.name: place for place, table in enumerate(self.tables)}
        self._required = required
        self._index_names = Names({table.name for table in tables})

    def name(self, table: str) -> str:
        """Return the name of a table in quotes, with its schema."""
        quoted = self.dialect.quoted(table)
        return quoted if self.schema is None else f"{self.dialect.quoted(self.schema)}.{quoted}"

    def create(self, table: Table, has_keys: bool = True) -> str:
        """Return the statement that makes a table.

        Args:
            table: The table.
            has_keys: Whether with primary key and references; else `keys` adds them once it is filled. What
                refers to a table that is made later comes from `late_references`.
        """
        comments = {column.name: path_of(column) for column in table.columns}
        schema = table.arrow_schema()
        lines = [
            self._line(
                name,
                spelled,
                not schema.field(name).nullable or f"{table.name}.{name}" in self._required,
                comments.get(name, ""),
            )
            for name, spelled in self.declared(table)
        ]
        if has_keys:
            lines += [self._primary_key(table), *self._references(table, is_late=False)]
        inside = ",\n".join(f"  {line}" for line in lines)
        return f"CREATE TABLE {self.name(table.name)} (\n{inside}\n){self._comment(told_of(table))}"

    def declared(self, table: Table) -> Iterator[tuple[str, str]]:
        """Yield the columns of a table with their types, keys first."""
        for name in table.key_columns():
            is_place = table.places and name == table.place_key
            kind = table.key_type_of(name)
            yield name, self.dialect.type_of(TEXT) if is_place else self.dialect.key_type(kind)
        for column in table.columns:
            # What refers to documents or to elements around is a key, though it stands among the columns.
            is_key = column.name in (table.document_key, table.enclosing_key)
            yield (
                column.name,
                self.dialect.key_type(table.key_type) if is_key else self.dialect.type_of(column.type),
            )

    def keys(self, table: Table) -> list[str]:
        """Return the statements that give a table its primary key and references."""
        references = (*self._references(table, is_late=False), *self._references(table, is_late=True))
        return self._added(table, [self._primary_key(table), *references])

    def late_references(self, table: Table) -> list[str]:
        """Return the statements for references to tables that are made, and filled, after this one."""
        return self._added(table, self._references(table, is_late=True))

    def _added(self, table: Table, parts: Iterable[str]) -> list[str]:
        return [f"ALTER TABLE {self.name(table.name)} ADD {part}" for part in parts]

    def indexes(self, table: Table) -> list[str]:
        """Return the statements for an index on each column by which rows below are looked up."""
        above = [] if table.parent_key is None else [table.parent_key]
        columns = dict.fromkeys((*above, *(column for column, _ in table.references())))
        return [
            f"CREATE INDEX {self.dialect.quoted(self._index_name(table, column))} "
            f"ON {self.name(table.name)} ({self.dialect.quoted(column)})"
            for column in columns
        ]

    def _index_name(self, table: Table, column: str) -> str:
        return self._index_names.claim(table.name, column, "index", otherwise="index")

    def comments(self, table: Table) -> list[str]:
        """Return the statements that say what a table and its columns are; none where `create` says it."""
        if self.dialect.comments != "apart":
            return []
        name, dialect = self.name(table.name), self.dialect
        made = [f"COMMENT ON TABLE {name} IS {dialect.text(told_of(table))}"]
        made += [
            f"COMMENT ON COLUMN {name}.{dialect.quoted(column.name)} IS {dialect.text(path_of(column))}"
            for column in table.columns
        ]
        return made

    def drop(self, tables: Iterable[str]) -> list[str]:
        """Return the statements that take tables away, those that refer to others before these."""
        names = [self.name(table) for table in tables]
        # Of tables that refer to each other none can go alone.
        together = [", ".join(names)] if self.dialect.name == "postgresql" and names else names
        return [f"DROP TABLE {each}" for each in together]

    def lacking(self, table: Table) -> Iterator[tuple[str, str]]:
        """Yield each table that rows of one refer to, and the query that counts those that lack their row."""
        for column, other in table.references():
            if other in self._places:
                key = self.dialect.quoted(self.tables[self._places[other]].row_key)
                quoted = self.dialect.quoted(column)
                yield (
                    other,
                    f"SELECT count(*) FROM {self.name(table.name)} AS t1 LEFT JOIN {self.name(other)} AS t2 "
                    f"ON t2.{key} = t1.{quoted} WHERE t1.{quoted} IS NOT NULL AND t2.{key} IS NULL",
                )

    def _line(self, name: str, spelled: str, is_required: bool, comment: str) -> str:
        return f"{self.dialect.quoted(name)} {spelled}{' NOT NULL' * is_required}{self._comment(comment)}"

    def _comment(self, said: str) -> str:
        """Return what says something of a column or table within the statement that makes it."""
        if not said or self.dialect.comments != "within":
            return ""
        shown = said if len(said) <= _COMMENT_LETTERS else said[: _COMMENT_LETTERS - 1] + "…"
        return f" COMMENT {self.dialect.text(shown)}"

    def _primary_key(self, table: Table) -> str:
        return f"PRIMARY KEY ({self.dialect.quoted(table.row_key)})"

    def _references(self, table: Table, is_late: bool) -> Iterator[str]:
        for column, other in table.references():
            if other in self._places and self._is_late(table, other) is is_late:
                key = self.tables[self._places[other]].row_key
                # Rows that refer to each other come and go in no order.
                waits = " DEFERRABLE INITIALLY DEFERRED" if is_late and self.dialect.defers else ""
                yield (
                    f"{self._named(table, column)}FOREIGN KEY ({self.dialect.quoted(column)}) "
                    f"REFERENCES {self.name(other)} "
                    f"({self.dialect.quoted(key)}){waits}"
                )

    def _named(self, table: Table, column: str) -> str:
        """Return what names a reference: MySQL makes names that it then finds too long."""
        if self.dialect.name not in ("mysql", "mariadb"):
            return ""
        claimed = self._index_names.claim(table.name, column, "reference", otherwise="reference")
        return f"CONSTRAINT {self.dialect.quoted(claimed)} "

    def _is_late(self, table: Table, other: str) -> bool:
        # SQLite adds no reference later, and minds none to what is not there yet.
        return self.dialect.name != "sqlite" and self._places[other] > self._places[table.name]


def parents_first(tables: Sequence[Table]) -> list[Table]:
    """Return tables, each behind those that it refers to, else in their order.

    The tables that rows of a shared one belong to, each its own, stand before it as far as they can: where
    structures stand in each other there is no such order, and no reference either.
    """
    left = {table.name: table for table in tables}
    made: list[Table] = []
    while left:
        ready = [
            table for table in left.values() if _is_ready(table, left, (*_referred(table), *table.parents()))
        ]
        if not ready:
            ready = [table for table in left.values() if _is_ready(table, left, _referred(table))][:1]
        for table in ready or [next(iter(left.values()))]:
            made.append(table)
            del left[table.name]
    return made


def _is_ready(table: Table, left: Mapping[str, Table], others: Iterable[str]) -> bool:
    return all(other == table.name or other not in left for other in others)


def _referred(table: Table) -> list[str]:
    return [other for _, other in table.references()]


def required_columns(part: LayoutPart) -> frozenset[str]:
    """Return the columns of a layout, as `table.column`, without which a record is a reject."""
    return frozenset(
        f"{table}.{name}"
        for table, each in part.tables.items()
        for name, column in _columns_of(each)
        if column.required and column.failed in ("record", "stop") and column.mask != "drop"
    )


def _columns_of(table: TablePart) -> list[tuple[str, ColumnPart]]:
    # Rows above that stay without one here have nothing in any column.
    return [] if table.with_empty or table.multiply else list(table.columns.items())


def path_of(column: Column) -> str:
    """Return where the values of a column come from: from the record down, or how they are worked out."""
    if column.path and column.shown.startswith("@"):
        return format_path(column.path)
    return column.shown or format_path(column.path)


def told_of(table: Table) -> str:
    """Return what the rows of a table are, in words."""
    where = format_path(table.rows) if table.rows else "$"
    return f"rows of {where}" + (f": {table.why}" if table.why else "")


def joining(tables: Sequence[Table], made: CreateTables) -> str:
    """Return the query that joins the longest chain of tables by their keys; empty where there is none."""
    by_name = {table.name: table for table in tables}
    chain = max((_chain(table, by_name) for table in tables), key=len, default=[])
    if len(chain) < 2:
        return ""
    parts = [f"SELECT count(*) FROM {made.name(chain[0].name)} AS t1"]
    quoted = made.dialect.quoted
    for number, (above, below) in enumerate(pairwise(chain), 2):
        on = f"t{number}.{quoted(str(below.parent_key))} = t{number - 1}.{quoted(above.row_key)}"
        parts.append(f"JOIN {made.name(below.name)} AS t{number} ON {on}")
    return "\n".join(parts)


def _chain(table: Table, by_name: Mapping[str, Table]) -> list[Table]:
    """Return a table with those above it, the outermost first."""
    found = [table]
    while (parent := found[0].only_parent()) is not None and parent in by_name:
        found.insert(0, by_name[parent])
    return found
