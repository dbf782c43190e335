"""Databases by their URLs, as SQLAlchemy spells them, and what they say, as errors that name them."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any

from tessaron.core.base.errors import SourceError, TargetError, UsageError

if TYPE_CHECKING:
    from sqlalchemy import URL, Engine

_EXPECTED = "expected the URL of a database, such as sqlite:///file.db"
_WAITS_SECONDS = 60
"""How long SQLite waits for another program that writes; many a load takes more than its driver's five."""


def engine_of(url: str, password: str | None = None, must_exist: bool = True) -> tuple[Engine, str]:
    """Return what connects to a database, and how the database is called in messages: without its password.

    Args:
        url: Where it is; PostgreSQL is spoken to by psycopg 3.
        password: The password, where it does not stand in the URL.
        must_exist: Whether the file of a database has to be there: opening it would make it.

    Raises:
        SourceError: When the file is not there.
        UsageError: When the URL cannot be right, or its driver is not installed.
    """
    from sqlalchemy import create_engine, event
    from sqlalchemy.engine import make_url
    from sqlalchemy.exc import ArgumentError, NoSuchModuleError
    from sqlalchemy.pool import NullPool

    try:
        made = make_url(url)
        if made.drivername in ("postgresql", "postgres"):
            made = made.set(drivername="postgresql+psycopg")
        if password is not None:
            made = made.set(password=password)
        shown = shown_url(made)
        if must_exist and made.get_backend_name() == "sqlite":
            _check_file(made.database, shown)
        is_patient = made.get_backend_name() == "sqlite" and "timeout" not in made.query
        waits = {"timeout": _WAITS_SECONDS} if is_patient else {}
        engine = create_engine(made, poolclass=NullPool, connect_args=waits)
    except (ArgumentError, NoSuchModuleError) as error:
        raise UsageError(f"{_EXPECTED}: {error}") from None
    except ImportError as error:
        raise UsageError(
            f"{shown}: its driver is not installed ({error.name}): pip install 'tessaron[sql]'"
        ) from None
    event.listen(engine, "connect", _keep_json)
    return engine, shown


def shown_url(url: URL | str) -> str:
    """Return the URL of a database without its driver and with `***` for its password.

    Raises:
        UsageError: When it cannot be right.
    """
    from sqlalchemy.engine import make_url
    from sqlalchemy.exc import ArgumentError

    try:
        made = make_url(url)
    except ArgumentError as error:
        raise UsageError(f"{_EXPECTED}: {error}") from None
    return made.set(drivername=made.get_backend_name()).render_as_string(hide_password=True)


def name_quoting(dialect: Any) -> Callable[[str], str]:
    """Return what puts names in quotes, for statements that SQLAlchemy's dialect hands on as they are.

    Its own quoting doubles percent signs, for drivers that would take them for parameters.
    """
    begin, end = dialect.identifier_preparer.initial_quote, dialect.identifier_preparer.final_quote
    return lambda name: f"{begin}{name.replace(end, end * 2)}{end}"


@contextmanager
def told_by(
    engine: Engine, name: str, kind: type[SourceError] | type[TargetError] = SourceError
) -> Iterator[None]:
    """Turn what a database says into an error that names it, in one line."""
    from sqlalchemy.exc import DBAPIError, SQLAlchemyError

    try:
        yield
    except DBAPIError as error:
        said = first_line(error.orig or error)
        if said == "database is locked":
            said += "; another program uses it: try again once it is done"
        raise kind(f"{name}: {said}") from error
    except SQLAlchemyError as error:
        raise kind(f"{name}: {first_line(error)}") from error
    except engine.dialect.loaded_dbapi.Error as error:
        raise kind(f"{name}: {first_line(error)}") from error


def first_line(error: BaseException) -> str:
    """Return the first line of what an error says."""
    return (str(error).strip() or type(error).__name__).splitlines()[0]


def _check_file(path: str | None, shown: str) -> None:
    """Check that the file of a database is there."""
    if path and path != ":memory:" and not path.startswith("file:") and not Path(path).is_file():
        raise SourceError(f"{shown}: there is no such file")


def _keep_json(connection: Any, record: object) -> None:
    """Let JSON come as the text that it is in the database, where the driver would parse it."""
    if type(connection).__module__.partition(".")[0] == "psycopg":
        from psycopg.types.json import set_json_loads

        set_json_loads(lambda data: data.decode() if isinstance(data, bytes) else data, connection)
