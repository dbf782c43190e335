"""What is in a database already, and how it differs from what is to go in."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, cast

from tessaron.core.layout.table_set import Table
from tessaron.sinks.ddl.create_tables import CreateTables

if TYPE_CHECKING:
    from sqlalchemy import Connection

_TAKES = {
    "integer": ("INT", "NUM", "DEC", "SERIAL"),
    "decimal": ("NUM", "DEC", "TEXT"),
    "double": ("DOUBLE", "FLOAT", "REAL"),
    "text": ("TEXT", "CHAR", "CLOB"),
    "xml": ("TEXT", "CHAR", "CLOB", "XML"),
    "json": ("TEXT", "CHAR", "CLOB", "JSON"),
    "uuid": ("UUID", "CHAR", "TEXT", "UNIQUEIDENTIFIER"),
    "boolean": ("BOOL", "BIT", "TINYINT"),
    "date": ("DATE",),
    "time": ("TIME",),
    "timestamp": ("TIMESTAMP", "DATETIME"),
    "timestamp_tz": ("TIMESTAMP", "DATETIME"),
}
"""What the name of a type begins with, or has in it, that takes values of ours."""

_SPELLINGS = [
    (re.compile(several), one)
    for several, one in (
        (r" (CHARACTER SET|COLLATE) \"?\w+\"?", ""),
        (r"\bTINYINT\(1\)|\bBOOLEAN\b", "BOOL"),
        (r"\b(\w*INT|INTEGER)\(\d+\)", r"\1"),
        (r"\bDECIMAL\b", "NUMERIC"),
    )
]


@dataclass(frozen=True, slots=True)
class ColumnThere:
    """A column of a table in a database.

    Attributes:
        name: Its name.
        type: How its type is spelled there, in capitals.
        needs_value: Whether every row has to bring a value for it.
    """

    name: str
    type: str
    needs_value: bool


class ExistingTables:
    """The tables of one schema of a database, as far as they have names of ours.

    Args:
        connection: The database.
        made: Our tables.
    """

    def __init__(self, connection: Connection, made: CreateTables):
        from sqlalchemy import inspect

        self._made, self._dialect = made, cast("Any", connection.dialect)
        self._inspector: Any = inspect(connection)
        there = set(self._inspector.get_table_names(schema=made.schema))
        views = set(self._inspector.get_view_names(schema=made.schema))
        fold = str.casefold if made.dialect.folds_case else str
        known = {fold(name): name for name in there | views}
        self._known = known
        self._fold = fold
        self.views = {table.name for table in made.tables if known.get(fold(table.name)) in views}
        self.names = [table.name for table in made.tables if fold(table.name) in known]

    def has(self, name: str) -> bool:
        """Say whether there is a table of this name."""
        return self._fold(name) in self._known

    def differences(self, table: Table, is_lenient: bool) -> list[str]:
        """Return in what a table there differs from ours, in words.

        Args:
            table: Ours.
            is_lenient: Whether it is enough that it takes our rows: other types that hold the values, and
                columns of its own that need no value.
        """
        there = {column.name: column for column in self.columns(table.name)}
        declared = dict(self._declared(table))
        found = [
            f"{table.name}.{name} is not there; {spelled} is expected"
            for name, spelled in declared.items()
            if name not in there
        ]
        kinds = _kinds_of(table)
        for name, spelled in declared.items():
            other = there.get(name)
            if other is None or alike(other.type, spelled):
                continue
            if not (is_lenient and _takes(other.type, kinds[name])):
                found.append(f"{table.name}.{name} is {other.type} there, and {spelled} here")
        for name, other in there.items():
            if name not in declared and (other.needs_value or not is_lenient):
                what = "needs a value, and none comes" if other.needs_value else "is only there"
                found.append(f"{table.name}.{name} {what} ({other.type})")
        return found

    def columns(self, table: str) -> Iterator[ColumnThere]:
        """Yield the columns of a table there."""
        for column in self._inspector.get_columns(table, schema=self._made.schema):
            spelled = str(column["type"].compile(dialect=self._dialect)).upper()
            has_default = column.get("default") is not None or bool(column.get("identity"))
            yield ColumnThere(column["name"], spelled, not column["nullable"] and not has_default)

    def _declared(self, table: Table) -> Iterator[tuple[str, str]]:
        for name, spelled in self._made.declared(table):
            yield name, spelled.upper()


def _kinds_of(table: Table) -> Mapping[str, str]:
    keys = {name: str(table.key_type_of(name)) for name in table.key_columns()}
    return keys | {column.name: column.type.name for column in table.columns}


def alike(one: str, other: str) -> bool:
    """Say whether two spellings are one type."""
    return _one_spelling(one) == _one_spelling(other)


def _one_spelling(spelled: str) -> str:
    """Return a type as it is spelled nowhere else: MariaDB says widths and letters that nobody asked for."""
    for several, one in _SPELLINGS:
        spelled = several.sub(one, spelled)
    return "".join(spelled.split())


def _takes(there: str, kind: str) -> bool:
    return any(word in there for word in _TAKES.get(kind, ()))


def listed(differences: Iterable[str], most: int = 20) -> str:
    """Return differences as lines of a message."""
    found = list(differences)
    more = f"\n  and {len(found) - most:,} more" if len(found) > most else ""
    return "".join(f"\n  {each}" for each in found[:most]) + more
