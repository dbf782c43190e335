"""The dialects of SQL that are known, written down as SQLAlchemy has them.

A test holds them to that: SQLAlchemy takes longer to load than a small export does. Any other dialect is had
from SQLAlchemy itself.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping

from tessaron.core.base.errors import UsageError
from tessaron.core.base.visible import in_quotes
from tessaron.core.types.column_types import ColumnType
from tessaron.sinks.ddl.sql_dialects import SqlDialect

_REAL_DIGITS = 15
"""So many digits of a decimal an IEEE 754 double gives back; SQLite has no other fractions."""

_ANSI = {
    "boolean": "BOOLEAN",
    "integer": "BIGINT",
    "decimal": "NUMERIC({precision}, {scale})",
    "double": "DOUBLE PRECISION",
    "text": "CLOB",
    "date": "DATE",
    "time": "TIME",
    "timestamp": "TIMESTAMP",
    "timestamp_tz": "TIMESTAMP WITH TIME ZONE",
    "uuid": "CHAR(36)",
    "json": "CLOB",
    "xml": "CLOB",
    "digest": "VARCHAR(32)",
}
_POSTGRESQL = _ANSI | {
    "text": "TEXT",
    "time": "TIME WITHOUT TIME ZONE",
    "timestamp": "TIMESTAMP WITHOUT TIME ZONE",
    "uuid": "UUID",
    "json": "JSON",
    "xml": "TEXT",
}
# As primary key an INTEGER is the row's own number.
_SQLITE = _ANSI | {
    "integer": "INTEGER",
    "double": "REAL",
    "text": "TEXT",
    "timestamp": "DATETIME",
    "timestamp_tz": "DATETIME",
    "json": "TEXT",
    "xml": "TEXT",
}
# Its own type for moments ends in 2038; these are in UTC.
_MYSQL = _ANSI | {
    "boolean": "BOOL",
    "double": "DOUBLE",
    "text": "LONGTEXT",
    "json": "JSON",
    "xml": "LONGTEXT",
    "time": "TIME{fraction}",
    "timestamp": "DATETIME{fraction}",
    "timestamp_tz": "DATETIME{fraction}",
}
_SQL_SERVER = _ANSI | {
    "boolean": "BIT",
    "text": "NVARCHAR(max)",
    "json": "NVARCHAR(max)",
    "xml": "NVARCHAR(max)",
    "time": "TIME({digits})",
    "timestamp": "DATETIME2({digits})",
    "timestamp_tz": "DATETIMEOFFSET({digits})",
    "uuid": "UNIQUEIDENTIFIER",
}
# It has no type for a time without a day.
_ORACLE = _ANSI | {
    "boolean": "NUMERIC(1, 0)",
    "integer": "NUMBER(19)",
    "double": "BINARY_DOUBLE",
    "time": "VARCHAR2(18 CHAR)",
    "digest": "VARCHAR2(32 CHAR)",
}


def _from(types: Mapping[str, str], most_digits: int = 9) -> Callable[[str, ColumnType], str]:
    def spelled(name: str, kind: ColumnType) -> str:
        digits = min(kind.second_digits, most_digits)
        fraction = f"({digits})" if digits else ""
        return types[name].format(
            precision=kind.precision, scale=kind.scale, digits=digits, fraction=fraction
        )

    return spelled


def _of_sqlite(name: str, kind: ColumnType) -> str:
    # A number of more digits would lose the last of them.
    is_long = name == "decimal" and kind.precision > _REAL_DIGITS
    return _from(_SQLITE)("text" if is_long else name, kind)


def _of_mysql(name: str) -> SqlDialect:
    return SqlDialect(
        name,
        _from(_MYSQL, 6),
        ("`", "`"),
        most_letters=64,
        most_columns=1_017,
        comments="within",
        folds_case=True,
        has_schemas=True,
        has_escapes=True,
        commits_tables=True,
        checks_late=True,
    )


_KNOWN = {
    each.name: each
    for each in (
        SqlDialect(
            "postgresql",
            _from(_POSTGRESQL),
            most_letters=63,
            counts_bytes=True,
            most_columns=1_600,
            comments="apart",
            has_schemas=True,
            defers=True,
        ),
        SqlDialect("sqlite", _of_sqlite, ('"', '"'), None, False, 2_000, 9, folds_case=True),
        _of_mysql("mysql"),
        _of_mysql("mariadb"),
        SqlDialect("sqlserver", _from(_SQL_SERVER, 7), ("[", "]"), 128, False, 1_024, 7, folds_case=True),
        SqlDialect(
            "oracle",
            _from(_ORACLE),
            most_letters=128,
            counts_bytes=True,
            most_columns=1_000,
            second_digits=9,
            comments="apart",
            commits_tables=True,
            defers=True,
        ),
        SqlDialect("ansi", _from(_ANSI), most_letters=128, has_schemas=True, defers=True),
    )
}
DIALECTS = tuple(_KNOWN)
"""The dialects that are known."""
_OTHER_NAMES = {"mssql": "sqlserver", "postgres": "postgresql"}


def dialect_named(name: str) -> SqlDialect:
    """Return the dialect of this name: one of `DIALECTS`, or one that SQLAlchemy knows by it.

    Raises:
        UsageError: When there is none.
    """
    wanted = _OTHER_NAMES.get(name.lower(), name.lower())
    if wanted in _KNOWN:
        return _KNOWN[wanted]
    from tessaron.sinks.ddl.other_dialects import other_dialect

    found = other_dialect(wanted)
    if found is None:
        raise UsageError(
            f"expected a dialect of {', '.join(DIALECTS)}, or one whose package for SQLAlchemy is installed, "
            f"got {in_quotes(name)}"
        )
    return found
