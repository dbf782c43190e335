"""What SOURCE stands for: files, standard input, addresses, feeds, and a database with what to read of it."""

from __future__ import annotations

import logging
import sys
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

import click

from tessaron.cli import completing
from tessaron.cli.command_group import say
from tessaron.cli.shared_options import Command

if TYPE_CHECKING:
    from tessaron.sources.resolving import Source

_ASKED = "tessaron.source"
"""Under this name a command keeps what was said of its sources."""
_OF_DATABASES = ("query", "table", "documents", "mark")
_OF_FEEDS = ("keep_answers", "from_answers", "verbose")


def source_of(sources: tuple[str, ...]) -> Source:
    """Return what the arguments stand for; `-` is standard input."""
    from tessaron.sources.remote.store_urls import is_store

    asked = click.get_current_context().meta.get(_ASKED, {})
    of_database = {key: asked[key] for key in _OF_DATABASES if key in asked}
    of_feed = {key: asked[key] for key in _OF_FEEDS if key in asked}
    is_url = len(sources) == 1 and "://" in sources[0] and not is_store(sources[0])
    if is_url and (of_database or not _is_feed(sources[0])):
        from tessaron.sources.database.database_query import DatabaseQuery

        if len(of_database.keys() & {"query", "table"}) != 1:
            raise click.UsageError(
                "say what to read of the database: --from-table NAME, or --query 'SELECT …'"
            )
        documents = of_database.get("documents", ())
        read = (of_database.get("query"), of_database.get("table"), documents, of_database.get("mark"))
        return DatabaseQuery(sources[0], *read)
    if of_database.keys() == {"documents"} and "-" not in sources:
        from tessaron.sources.tables.table_source import TableSource

        return [TableSource(source, of_database["documents"]) for source in sources]
    if of_database:
        raise click.UsageError(
            "--query and --from-table go with the URL of a database as SOURCE, --documents with tables, too"
        )
    if of_feed and not all(map(_is_feed, sources)):
        raise click.UsageError(
            "--keep-answers, --from-answers and --verbose go with an address or a feed file as SOURCE"
        )
    if sources == ("-",):
        return sys.stdin.buffer
    if "-" in sources:
        raise click.UsageError("standard input (-) cannot be mixed with files; give it alone")
    return _feeds_of(sources, of_feed) if of_feed else [_plain(source) for source in sources]


def _plain(source: str) -> str | Path:
    from tessaron.sources.remote.store_urls import is_store

    return source if source.startswith(("http://", "https://")) or is_store(source) else Path(source)


def _is_feed(source: str) -> bool:
    return source.startswith(("http://", "https://")) or source.lower().endswith(".feed.toml")


def _feeds_of(sources: tuple[str, ...], asked: dict[str, str]) -> Source:
    """Return feeds whose answers are kept, or come from where they were, or are told."""
    from tessaron.sources.web.api_feed import ApiFeed

    keep, run_from = asked.get("keep_answers"), asked.get("from_answers")
    if len(sources) > 1 and (keep or run_from):
        raise click.UsageError("--keep-answers and --from-answers go with one feed")
    if asked.get("verbose"):
        tell_requests()
    return [ApiFeed.read(source, keep_answers=keep, from_answers=run_from) for source in sources]


def tell_requests() -> None:
    """Write each request and its answer to standard error, without secrets."""
    log, teller = logging.getLogger("tessaron.web"), _Teller()
    log.setLevel(logging.INFO)
    log.addHandler(teller)
    click.get_current_context().call_on_close(lambda: log.removeHandler(teller))


class _Teller(logging.Handler):
    def emit(self, record: logging.LogRecord) -> None:
        say(record.getMessage())


def _keep_asked(key: str) -> Callable[[click.Context, click.Parameter, object], None]:
    def keep(context: click.Context, parameter: click.Parameter, value: object) -> None:
        if value:
            context.meta.setdefault(_ASKED, {})[key] = value

    return keep


_OPTIONS = (
    ("--verbose", "verbose", None, "Of a web API: show requests and answers as they go."),
    ("--from-answers", "from_answers", "DIR", "Of a web API: take the answers kept there; no network."),
    ("--keep-answers", "keep_answers", "DIR", "Of a web API: keep answers; a broken run goes on there."),
    ("--documents", "documents", "COLUMN", "Of a database or table: a column with documents; else found."),
    ("--from-table", "table", "NAME", "Of a database: the table to read."),
    ("--query", "query", "SQL", "Of a database: the query to read."),
)  # fmt: skip


def source_options(command: Command) -> Command:
    """Add the options that say what is read, and how, of what is no file; see `source_of`."""
    for flag, key, metavar, text in _OPTIONS:
        command = click.option(
            flag,
            metavar=metavar,
            help=text,
            multiple=key == "documents",
            is_flag=metavar is None,
            expose_value=False,
            callback=_keep_asked(key),
        )(command)
    return command


source_argument = click.argument(
    "sources", nargs=-1, required=True, metavar="SOURCE...", shell_complete=completing.files
)


def mark_option(command: Command) -> Command:
    """Add the option that says which column of a database tells what is new."""
    said = "Of a database, with a ledger: only rows beyond those of the last run."
    option = click.option(
        "--mark", metavar="COLUMN", help=said, callback=_keep_asked("mark"), expose_value=False
    )
    return option(command)


def check_no_mark() -> None:
    """Fail where a mark is asked for, and no ledger could keep it."""
    if "mark" in click.get_current_context().meta.get(_ASKED, {}):
        raise click.UsageError("--mark goes with --ledger")
