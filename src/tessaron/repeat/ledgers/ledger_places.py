"""Where a ledger stands: in the target's own transaction, or in a database of its own beside it."""

from __future__ import annotations

import secrets
from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Protocol

from tessaron.repeat.ledgers.ledger import Entry, Ledger

if TYPE_CHECKING:
    from sqlalchemy import Connection

Marks = dict[str, str | int]


class KeptLedger(Protocol):
    """A ledger, and how what a run has done comes into it.

    Attributes:
        ledger: The ledger of the feed; of a first run, that of no feed.
        token: By which the target knows the run; empty where one transaction holds both.
    """

    ledger: Ledger
    token: str

    def note(self, entries: Sequence[Entry]) -> None:
        """Write entries of sources that are not to be loaded."""

    def begin(self, entries: Sequence[Entry]) -> None:
        """Take in what a run is about to load."""

    def in_transaction(self, feed: str, run: int, entries: Sequence[Entry], marks: Marks) -> None:
        """Take in what a run has loaded, before the target makes it visible."""

    def after(self, feed: str, run: int) -> None:
        """Take in that the target has made it visible."""


class LedgerInTarget:
    """A ledger in the target: what it says is true when what it speaks of is there.

    Args:
        connection: The target, with its transaction.
        schema: The schema of its table of runs.
        feed: The records' table; empty for a first run.
    """

    def __init__(self, connection: Connection, schema: str | None, feed: str):
        self._connection, self._schema, self.token = connection, schema, ""
        self.ledger = Ledger(connection, schema, "", feed)

    def note(self, entries: Sequence[Entry]) -> None:
        """Write entries."""
        self.ledger.add(entries)

    def begin(self, entries: Sequence[Entry]) -> None:
        """Do nothing."""

    def in_transaction(self, feed: str, run: int, entries: Sequence[Entry], marks: Marks) -> None:
        """Write the entries, and how far feeds came."""
        ledger = Ledger(self._connection, self._schema, "", feed)
        ledger.add([replace(each, run=run) for each in entries])
        for name, mark in marks.items():
            ledger.set_mark(name, mark)

    def after(self, feed: str, run: int) -> None:
        """Do nothing."""


class LedgerBeside:
    """A ledger in a database of its own: a run that breaks off is looked up in the target by its token.

    Args:
        connection: The ledger's database.
        target: What the target is called.
        feed: The records' table; empty for a first run.
        run_of: Returns the number of the target's run with a token, and its records' table; 0 for none.
    """

    def __init__(
        self, connection: Connection, target: str, feed: str, run_of: Callable[[str], tuple[int, str]]
    ):
        self._connection, self._target = connection, target
        self.token = secrets.token_hex(16)
        for each in dict.fromkeys(("", feed)):
            ledger = Ledger(connection, None, target, each)
            for token in ledger.unsettled():
                ledger.settle(token, *run_of(token))
        connection.commit()
        self.ledger = Ledger(connection, None, target, feed)

    def note(self, entries: Sequence[Entry]) -> None:
        """Write entries."""
        self.ledger.add(entries)
        self._connection.commit()

    def begin(self, entries: Sequence[Entry]) -> None:
        """Write what is about to be loaded, so that it can be known after a crash."""
        self.ledger.add([replace(each, state="begun", token=self.token) for each in entries])
        self._connection.commit()

    def in_transaction(self, feed: str, run: int, entries: Sequence[Entry], marks: Marks) -> None:
        """Write how far feeds came, to hold once the target has what they brought."""
        self.ledger.tell(entries, self.token)
        for name, mark in marks.items():
            self.ledger.set_mark(name, mark, self.token)
        self._connection.commit()

    def after(self, feed: str, run: int) -> None:
        """Write that all of it is loaded."""
        self.ledger.settle(self.token, run, feed)
        self._connection.commit()
