"""What SOURCE stands for: files, standard input, addresses, and a database with what to read of it."""

from __future__ import annotations

import sys
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

import click

from tessaron.cli.shared_options import Command

if TYPE_CHECKING:
    from tessaron.sources.inputs import Source


_DATABASE = "tessaron.database"
"""Under this name a command keeps what is to be read of a database."""


def source_of(sources: tuple[str, ...]) -> Source:
    """Return what the arguments stand for; `-` is standard input."""
    asked = click.get_current_context().meta.get(_DATABASE, {})
    if len(sources) == 1 and "://" in sources[0] and (asked or not _is_web(sources[0])):
        from tessaron.sources.database_query import DatabaseQuery

        if len(asked.keys() & {"query", "table"}) != 1:
            raise click.UsageError(
                "say what to read of the database: --from-table NAME, or --query 'SELECT …'"
            )
        return DatabaseQuery(sources[0], asked.get("query"), asked.get("table"), asked.get("documents", ()))
    if asked:
        raise click.UsageError(
            "--query, --from-table and --documents go with the URL of a database as SOURCE"
        )
    if sources == ("-",):
        return sys.stdin.buffer
    if "-" in sources:
        raise click.UsageError("standard input (-) cannot be mixed with files; give it alone")
    return [source if _is_web(source) else Path(source) for source in sources]


def _is_web(source: str) -> bool:
    return source.startswith(("http://", "https://"))


def _keep_asked(key: str) -> Callable[[click.Context, click.Parameter, object], None]:
    def keep(context: click.Context, parameter: click.Parameter, value: object) -> None:
        if value:
            context.meta.setdefault(_DATABASE, {})[key] = value

    return keep


def database_options(command: Command) -> Command:
    """Add the options that say what is read where SOURCE is the URL of a database; see `source_of`."""
    for flag, key, metavar, text in (
        (
            "--documents",
            "documents",
            "COLUMN",
            "A column of the database with JSON documents; else they are found.",
        ),
        ("--from-table", "table", "NAME", "The table to read where SOURCE is the URL of a database."),
        ("--query", "query", "SQL", "The query to read where SOURCE is the URL of a database."),
    ):
        command = click.option(
            flag,
            metavar=metavar,
            help=text,
            multiple=key == "documents",
            expose_value=False,
            callback=_keep_asked(key),
        )(command)
    return command


source_argument = click.argument("sources", nargs=-1, required=True, metavar="SOURCE...")
