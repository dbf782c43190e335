"""Dialects of SQL that only SQLAlchemy knows, from its own packages or from others that are installed."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, cast

import sqlalchemy as sa
from sqlalchemy.dialects import registry
from sqlalchemy.exc import NoSuchModuleError
from sqlalchemy.types import TypeEngine

from tessaron.core.types.column_types import ColumnType
from tessaron.sinks.ddl.sql_dialects import DIGEST_LETTERS, SqlDialect

_TYPES: dict[str, Callable[[ColumnType], TypeEngine[Any]]] = {
    "boolean": lambda _: sa.Boolean(),
    "integer": lambda _: sa.BigInteger(),
    "decimal": lambda kind: sa.Numeric(kind.precision, kind.scale),
    "double": lambda _: sa.Double(),
    "text": lambda _: sa.Text(),
    "json": lambda _: sa.Text(),
    "xml": lambda _: sa.Text(),
    "date": lambda _: sa.Date(),
    "time": lambda _: sa.Time(),
    "timestamp": lambda _: sa.DateTime(),
    "timestamp_tz": lambda _: sa.DateTime(timezone=True),
    "uuid": lambda _: sa.String(36),
    "digest": lambda _: sa.String(DIGEST_LETTERS),
}


def other_dialect(name: str) -> SqlDialect | None:
    """Return a dialect by SQLAlchemy's name for it; None where there is no such."""
    try:
        dialect: Any = cast("Any", registry).load(name)()
    except NoSuchModuleError:
        return None
    # A name of nothing but a letter shows what stands around it.
    begin, _, end = dialect.identifier_preparer.quote_identifier("a").partition("a")

    def spelled(type_name: str, kind: ColumnType) -> str:
        made = _TYPES[type_name](kind)
        return str(dialect.type_compiler_instance.process(made))

    return SqlDialect(name, spelled, (begin, end), dialect.max_identifier_length)
