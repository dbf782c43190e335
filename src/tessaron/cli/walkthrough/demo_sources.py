"""The steps of the demo that read a web API and a database."""

from __future__ import annotations

import shlex
import sqlite3
import threading
from collections.abc import Iterator
from contextlib import closing, contextmanager
from itertools import islice
from pathlib import Path

from rich.console import Console

from tessaron.cli.walkthrough.demo_walkthrough import variable_set
from tessaron.core.base.errors import UsageError
from tessaron.prove.verifying import verify
from tessaron.sources.database.database_query import DatabaseQuery
from tessaron.sources.demo.office import OFFICE_CALLS, OFFICE_SECRET
from tessaron.sources.demo.office_server import OfficeServer, write_feeds
from tessaron.views.terminal import show
from tessaron.write.books.receipt import Receipt
from tessaron.write.export import export

_INBOX_ROWS = 200


def show_other_sources(screen: Console, folder: Path, calls: Path, command: str) -> bool:
    """Show calls that come of a web API and of a database; say whether all of them came."""
    try:
        return _show_api(screen, folder, command) & _show_database(screen, folder, calls, command)
    except UsageError as error:
        # Both need more than the package itself.
        show(screen, f"14. A web API and a database: {error}", "")
        return True


def _show_api(screen: Console, folder: Path, command: str) -> bool:
    office, target = folder / "office", folder / "office" / "tables"
    office.mkdir(exist_ok=True)
    with _served() as url:
        feed = next(path for path in write_feeds(office, url) if path.name == "login.feed.toml")
        receipt = export(feed, target, replace=True)
    quoted = shlex.quote(str(feed))
    show(
        screen,
        "14. A web API: the harbour office. It wants a login, gives 50 calls a page, and its tokens are good",
        "   for three answers. How to ask stands in a feed file. It closes when this is done;",
        f"   `{command} demo --serve` opens it again.",
        "",
        *(f"     {line}" for line in feed.read_text("utf-8").splitlines()),
        "",
        f"   OFFICE_SECRET={OFFICE_SECRET} {command} export {quoted} -o {shlex.quote(str(target))}",
        "",
        _in_short(receipt),
        "",
    )
    return receipt.records == OFFICE_CALLS


def _show_database(screen: Console, folder: Path, calls: Path, command: str) -> bool:
    database, target = folder / "office.sqlite", folder / "inbox"
    _fill(database, calls)
    query = DatabaseQuery(f"sqlite:///{database}", table="inbox")
    receipt = export(query, target, replace=True)
    found = verify(target, query)
    asked = f"{shlex.quote(query.url)} --from-table inbox"
    show(
        screen,
        f"15. A database: {database.name}, whose table `inbox` has a call as text in the column `payload` of",
        "   each row. The other columns stand beside what the document holds.",
        "",
        f"   {command} export {asked} -o {shlex.quote(str(target))}",
        "",
        _in_short(receipt),
        "",
        f"   {command} verify {shlex.quote(str(target))} {asked}",
        "",
        f"   {'identical' if found.passed else 'DIFFERENT'}: {found.records:,} records compared",
        "",
    )
    return found.passed


def _in_short(receipt: Receipt) -> str:
    rows, tables = sum(table.rows for table in receipt.tables), len(receipt.tables)
    return f"   {receipt.records:,} records in, {rows:,} rows out, {tables} tables"


@contextmanager
def _served() -> Iterator[str]:
    """Serve the office while the context lasts."""
    with OfficeServer() as server, variable_set("OFFICE_SECRET", OFFICE_SECRET):
        thread = threading.Thread(target=server.serve_forever, daemon=True)
        thread.start()
        try:
            yield server.url
        finally:
            server.shutdown()
            thread.join()


def _fill(database: Path, calls: Path) -> None:
    """Write a table whose rows hold the first calls as texts."""
    with closing(sqlite3.connect(database)) as connection, connection, calls.open(encoding="utf-8") as lines:
        connection.execute("DROP TABLE IF EXISTS inbox")
        connection.execute("CREATE TABLE inbox (id INTEGER PRIMARY KEY, seen_at TEXT, payload TEXT)")
        rows = (
            (number, f"2026-02-{1 + number % 28:02}T06:00:00Z", line.rstrip("\n"))
            for number, line in enumerate(islice(lines, _INBOX_ROWS), 1)
        )
        connection.executemany("INSERT INTO inbox VALUES (?, ?, ?)", rows)
