"""Catalogs of lake tables (Apache Iceberg): which one a text names, and its tables.

`iceberg:sqlite:///catalog.db?warehouse=/data/warehouse` is a catalog in a database, its files below a folder
or a place in an object store; `iceberg:https://host/` one that speaks REST; `iceberg:NAME` one that the file
`~/.pyiceberg.yaml` tells of.
"""

from __future__ import annotations

import os
import re
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any
from urllib.parse import parse_qsl

from tessaron.core.base.errors import SourceError, TargetError, UsageError
from tessaron.sources.database.engines import first_line
from tessaron.sources.forms.addresses import without_user

SCHEME = "iceberg:"
NAMESPACE = "default"
RUN, TOP, LAYOUT, RECEIPT, ROWS, TOKEN = (
    f"tessaron.{name}" for name in ("run", "top", "layout", "receipt", "rows", "token")
)
"""Properties of the records' table: the last run, and what a table of runs says elsewhere. All tables, and
their snapshots, have the run, and which is the records' table."""
KEY, REFERENCES, LAST_KEY = "tessaron.key", "tessaron.references", "tessaron.last_key"
"""Properties of each table: its primary key, what it refers to as JSON, its largest sequence key."""
MADE, ADDED = "tessaron.made", "tessaron.added"
"""Properties of each table: the run that has made it, and what columns the last one has added, as JSON."""
_FROM_ENVIRONMENT = {
    "s3.endpoint": "AWS_ENDPOINT_URL",
    "s3.access-key-id": "AWS_ACCESS_KEY_ID",
    "s3.secret-access-key": "AWS_SECRET_ACCESS_KEY",
    "s3.region": "AWS_DEFAULT_REGION",
}


@dataclass(frozen=True)
class LakeCatalog:
    """A catalog, and one namespace of it.

    Attributes:
        catalog: As pyiceberg has it.
        name: What it is called in messages.
        namespace: Where the tables are.
    """

    catalog: Any
    name: str
    namespace: str

    def table(self, name: str) -> Any | None:
        """Return a table; None where there is none."""
        identifier = (self.namespace, name)
        return self.catalog.load_table(identifier) if self.catalog.table_exists(identifier) else None

    def names(self) -> list[str]:
        """Return the names of the tables."""
        if not self.catalog.namespace_exists(self.namespace):
            return []
        return sorted(identifier[-1] for identifier in self.catalog.list_tables(self.namespace))


def is_lake(place: object) -> bool:
    """Say whether a text names a catalog of lake tables."""
    return isinstance(place, str) and place.startswith(SCHEME)


def catalog_of(place: str, namespace: str | None) -> LakeCatalog:
    """Return the catalog that a text names.

    Raises:
        UsageError: When it cannot be right, or pyiceberg is not installed.
    """
    try:
        from pyiceberg.catalog import load_catalog
    except ImportError as error:
        raise UsageError("lake tables need pyiceberg: pip install 'tessaron[lake]'") from error
    text, _, query = place.removeprefix(SCHEME).partition("?")
    options = {**_from_environment(), **dict(parse_qsl(query))}
    name = without_user(f"{SCHEME}{text}")
    # Catalogs of several names may stand in one database.
    own = options.pop("name", "default")
    try:
        if re.match(r"https?://", text):
            made = load_catalog(own, type="rest", uri=text, **options)
        elif "://" in text:
            made = load_catalog(own, type="sql", uri=text, **_with_warehouse(options, name))
        else:
            made = load_catalog(text, **options)
    except UsageError:
        raise
    except Exception as error:
        raise UsageError(f"{name}: no such catalog: {first_line(error)}") from error
    return LakeCatalog(made, name, namespace or NAMESPACE)


def _with_warehouse(options: dict[str, str], name: str) -> dict[str, str]:
    place = options.get("warehouse")
    if not place:
        raise UsageError(f"{name}: say where its files are: {name}?warehouse=FOLDER")
    if "://" not in place:
        options = {**options, "warehouse": Path(os.path.abspath(place)).as_uri()}
    return options


def _from_environment() -> dict[str, str]:
    return {name: os.environ[known] for name, known in _FROM_ENVIRONMENT.items() if known in os.environ}


@contextmanager
def told_by_lake(name: str, kind: type[SourceError] | type[TargetError]) -> Iterator[None]:
    """Turn what a catalog or its files say into an error that names it."""
    from pyiceberg.exceptions import RESTError
    from sqlalchemy.exc import SQLAlchemyError

    try:
        yield
    except (RESTError, SQLAlchemyError, OSError, ValueError) as error:
        if isinstance(error, (SourceError, TargetError, UsageError)):
            raise
        raise kind(f"{name}: {first_line(error)}") from error
