"""The steps of the demo that read a web API and a database."""

from __future__ import annotations

import shlex
import sqlite3
import threading
from collections.abc import Iterator
from contextlib import closing, contextmanager
from itertools import islice
from pathlib import Path

from tessaron.cli.walkthrough.demo_walkthrough import variable_set
from tessaron.cli.walkthrough.telling import Telling
from tessaron.core.base.errors import UsageError
from tessaron.prove.verifying import verify
from tessaron.sources.database.database_query import DatabaseQuery
from tessaron.sources.demo.office import OFFICE_CALLS, OFFICE_SECRET
from tessaron.sources.demo.office_server import OfficeServer, write_feeds
from tessaron.write.books.receipt import Receipt
from tessaron.write.export import export

_INBOX_ROWS = 200


def show_other_sources(telling: Telling, folder: Path, calls: Path) -> bool:
    """Show calls that come of a web API and of a database; say whether all of them came."""
    try:
        return _show_api(telling, folder) & _show_database(telling, folder, calls)
    except UsageError as error:
        # Both need more than the package itself.
        telling.step(14, f"A web API and a database: {error}")
        return True


def _show_api(telling: Telling, folder: Path) -> bool:
    office, target = folder / "office", folder / "office" / "tables"
    office.mkdir(exist_ok=True)
    with _served() as url:
        feed = next(path for path in write_feeds(office, url) if path.name == "login.feed.toml")
        receipt = export(feed, target, replace=True)
    lines = [f"     {line}" for line in feed.read_text("utf-8").splitlines()]
    telling.step(
        14,
        "A web API: the harbour office, with a login, pages, and tokens that soon run out.",
        [
            "It gives 50 calls a page, and its tokens are good for three answers. How to ask stands in a",
            f"feed file. It has closed by now; `{telling.command} demo --serve` opens it again. The login",
            f"wants OFFICE_SECRET={OFFICE_SECRET}.",
        ],
        [f"export {shlex.quote(str(feed))} -o {shlex.quote(str(target))}"],
        [*lines, "", f"   {_in_short(receipt)}"],
        [_in_short(receipt)],
    )
    return receipt.records == OFFICE_CALLS


def _show_database(telling: Telling, folder: Path, calls: Path) -> bool:
    database, target = folder / "office.sqlite", folder / "inbox"
    _fill(database, calls)
    query = DatabaseQuery(f"sqlite:///{database}", table="inbox")
    receipt = export(query, target, replace=True)
    found = verify(target, query)
    asked = f"{shlex.quote(query.url)} --from-table inbox"
    verdict = f"{'identical' if found.passed else 'DIFFERENT'}: {found.records:,} records compared"
    telling.step(
        15,
        f"A database: {database.name}, whose table `inbox` has a call as text in the column `payload`.",
        ["The other columns stand beside what the document holds."],
        [
            f"export {asked} -o {shlex.quote(str(target))}",
            f"verify {shlex.quote(str(target))} {asked}",
        ],
        [f"   {_in_short(receipt)}", f"   {verdict}"],
        [_in_short(receipt), verdict],
    )
    return found.passed


def _in_short(receipt: Receipt) -> str:
    rows, tables = sum(table.rows for table in receipt.tables), len(receipt.tables)
    return f"{receipt.records:,} records in, {rows:,} rows out, {tables} tables"


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
