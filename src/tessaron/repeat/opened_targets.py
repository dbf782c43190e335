"""Targets that runs have loaded, open to be looked at: databases, and catalogs of lake tables."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from tessaron.sinks.database.open_database import OpenDatabase
from tessaron.sinks.lake.lake_catalogs import is_lake
from tessaron.sources.web.secret_values import secret_of

if TYPE_CHECKING:
    from tessaron.sinks.lake.lake_runs import OpenLake


def is_folder(target: str | Path) -> bool:
    """Say whether a target is a folder, and not the URL of a database or a catalog."""
    return "://" not in str(target) and not is_lake(str(target))


def opened_target(
    target: str, schema: str | None = None, runs_schema: str | None = None, password: str | None = None
) -> OpenDatabase | OpenLake:
    """Return what a URL leads to, as a context.

    Args:
        target: The URL of a database that is there, or a catalog.
        schema: As in `load`.
        runs_schema: As in `load`.
        password: As in `load`.

    Raises:
        TargetError: When it cannot be reached.
        UsageError: When the URL cannot be right.
    """
    if is_lake(target):
        from tessaron.sinks.lake.lake_runs import OpenLake

        return OpenLake(target, schema)
    secret = None if password is None else secret_of(password)
    return OpenDatabase(target, schema, runs_schema, secret, must_exist=True)
