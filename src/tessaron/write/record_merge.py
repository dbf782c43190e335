"""Records that come again, on their way into a database that has some of them already."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from tessaron.core.base.errors import Code, DataError, Place, UsageError
from tessaron.core.layout.table_set import Table, TableSet
from tessaron.sinks.database.database_target import DatabaseTarget
from tessaron.sinks.database.merging import state_rows, state_table
from tessaron.write.books.receipt import KeyCheck
from tessaron.write.record_sieve import KnownRecords, RecordSieve, identity_of


class RecordMerge:
    """Sends what is new or has changed, once what it replaces is gone.

    Args:
        target: The database, whose tables are there by now.
        tables: The tables of the records.
        top: The one with a row for each.
        natural_key: Its columns that say which record it is; nothing where no such are known.

    Attributes:
        sieve: What tells which records need not be sent.

    Raises:
        UsageError: When nothing says which record is which.
    """

    def __init__(self, target: DatabaseTarget, tables: TableSet, top: Table, natural_key: tuple[str, ...]):
        if top.documents is not None or top.enclosing is not None:
            raise UsageError(
                "merge takes records without a table of the documents around them: --no-envelope"
            )
        columns = identity_of(top, natural_key)
        if not columns:
            raise UsageError(
                "merge needs to know which record is which: --key COLUMN (perhaps with --keys digest), "
                f'or in a layout key = ["COLUMN"] in [tables.{top.name}]'
            )
        self._target, self._states = target, state_table(top)
        self.sieve = RecordSieve(tables, top, columns, KnownRecords(target.merge(top)))

    def write(self, rows: dict[str, Any]) -> None:
        """Send the rows of the records that the sieve has left of a chunk."""
        self._target.take_out(self.sieve.replaced)
        key = rows[self.sieve.top.name].column(self.sieve.top.row_key)
        rows[self._states.name] = state_rows(key, self.sieve.states, self._states)
        self._target.write(rows)

    def end(self, checks: Iterable[KeyCheck | None], is_complete: bool) -> dict[str, int]:
        """Check that the key is one; take out what did not come, where the source is all there is.

        Returns:
            How many records were `new`, `changed`, `unchanged` and `deleted`.

        Raises:
            DataError: When the key of the records is none.
        """
        for check in checks:
            if check is not None and not check.passed and check.table in ("", self.sieve.top.name):
                reason = (
                    f"{', '.join(check.columns)}: {check.duplicates:,} records repeat the key of another, "
                    f"{check.nulls:,} have none; merge takes each record once"
                )
                raise DataError(reason, Place("the whole run"), Code.UNIQUE)
        known = self.sieve.known
        gone = known.unseen() if is_complete else known.identities(slice(0, 0))
        self._target.take_out(gone)
        return {**self.sieve.counts, "deleted": len(gone)}
