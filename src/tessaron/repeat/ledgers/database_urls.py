"""Which database a URL leads to: whether two are one, and the files that are locked for it."""

from __future__ import annotations

import os
from pathlib import Path
from typing import TYPE_CHECKING

from tessaron.repeat.ledgers.run_lock import lock_of

if TYPE_CHECKING:
    from sqlalchemy import URL


def lock_files(*urls: str) -> list[Path]:
    """Return the files that are locked for databases: those of SQLite; servers have locks of their own."""
    found = {_file_of(url) for url in urls}
    return [lock_of(path) for path in sorted(filter(None, found))]


def _file_of(url: str) -> Path | None:
    from sqlalchemy.engine import make_url
    from sqlalchemy.exc import ArgumentError

    try:
        made = make_url(url)
    except ArgumentError:
        return None
    if made.get_backend_name() != "sqlite" or not made.database or made.database == ":memory:":
        return None
    return Path(os.path.abspath(made.database))


def is_same_database(one: str, other: str) -> bool:
    """Say whether two URLs lead to one database."""
    from sqlalchemy.engine import make_url

    if _file_of(one) is not None:
        return _file_of(one) == _file_of(other)
    first, second = (make_url(each) for each in (one, other))
    return _whereabouts(first) == _whereabouts(second)


def _whereabouts(url: URL) -> tuple[object, ...]:
    return url.get_backend_name(), url.host, url.port, url.database, url.query.get("host")
