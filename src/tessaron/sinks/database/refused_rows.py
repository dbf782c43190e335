"""Rows that a database refuses: found among those that were sent together, and told with key and reason.

A load that meets one cannot end well; it goes on all the same, up to a limit, so that all are told at once.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

from tessaron.core.base.errors import TargetError
from tessaron.core.layout.table_set import Table
from tessaron.sinks.database.row_writers import ReadyRows, RefusedRowsError, RowWriter

if TYPE_CHECKING:
    from sqlalchemy import Connection

_MOST = 100
"""After so many the load ends at once."""
_KEYS_SHOWN, _REASONS_SHOWN = 5, 10


class CarefulSender:
    """Sends groups of rows, each so that what was sent before it stays when it is refused.

    Args:
        writer: Puts rows into tables.
        connection: The database, with the transaction.
        name: What the database is called in messages.
    """

    def __init__(self, writer: RowWriter, connection: Connection, name: str):
        self._writer, self._connection, self._name = writer, connection, name
        self._keys: dict[tuple[str, str, str], list[object]] = {}
        self._refusing: set[str] = set()

    def send(self, group: ReadyRows) -> None:
        """Send a group; find out which of its rows are refused. Rows that may stand in such are left out.

        Raises:
            TargetError: When too many are refused, or the group cannot be sent at all.
        """
        if self._refusing & {*group.table.parents(), *(name for _, name in group.table.references())}:
            self._refusing.add(group.table.name)
            return
        refused = self._refused(group)
        if refused is not None:
            self._look_into(group, refused)

    def note(self, table: Table, reason: str, keys: Sequence[object]) -> None:
        """Take in that rows with these keys cannot be sent.

        Raises:
            TargetError: When there are too many.
        """
        self._refusing.add(table.name)
        self._keys.setdefault((table.name, table.row_key, reason), []).extend(keys)
        if self._count >= _MOST:
            self.check()

    def check(self) -> None:
        """Check that no row was refused.

        Raises:
            TargetError: With all that were: how many, their keys, and why.
        """
        if not self._keys:
            return
        if len(self._keys) == 1:
            raise TargetError(f"{self._name}: {next(self._told())}; nothing was loaded")
        lines = list(self._told())
        if len(lines) > _REASONS_SHOWN:
            lines[_REASONS_SHOWN:] = [f"and {len(lines) - _REASONS_SHOWN:,} more reasons"]
        shown = "".join(f"\n  {line}" for line in lines)
        raise TargetError(f"{self._name}: {self._count:,} rows are refused; nothing was loaded:{shown}")

    @property
    def _count(self) -> int:
        return sum(map(len, self._keys.values()))

    def _told(self) -> Iterator[str]:
        least = "at least " if self._count >= _MOST else ""
        for (table, column, reason), keys in self._keys.items():
            listed = ", ".join(map(str, keys[:_KEYS_SHOWN]))
            listed += ", …" if len(keys) > _KEYS_SHOWN else ""
            rows = "1 row" if len(keys) == 1 else f"{least}{len(keys):,} rows"
            yield f"{table}: {rows} refused, where {column} is {listed}: {reason}"

    def _refused(self, group: ReadyRows) -> RefusedRowsError | None:
        inner = self._connection.begin_nested()
        try:
            self._writer.send(group)
        except RefusedRowsError as error:
            inner.rollback()
            return error
        inner.commit()
        return None

    def _look_into(self, group: ReadyRows, refused: RefusedRowsError) -> None:
        """Send the rows of a group that are taken, and note the others."""
        keys = group.rows.column(group.table.row_key)
        pending: list[tuple[int, int, RefusedRowsError | None]] = [(0, group.rows.num_rows, refused)]
        while pending:
            start, stop, error = pending.pop()
            if start == stop:
                continue
            if error is None and (error := self._refused_between(group, start, stop)) is None:
                continue
            if stop - start == 1 or error.row is not None:
                bad = start + (error.row or 0)
                self.note(group.table, error.reason, [keys[bad].as_py()])
                # Those before it first: what comes later may not go together with them.
                pending += [(bad + 1, stop, None), (start, bad, None)]
            else:
                middle = (start + stop) // 2
                pending += [(middle, stop, None), (start, middle, None)]

    def _refused_between(self, group: ReadyRows, start: int, stop: int) -> RefusedRowsError | None:
        rows = group.rows.slice(start, stop - start)
        at = 0
        for part in self._writer.groups(group.table, group.name, rows):
            error = self._refused(part)
            if error is not None:
                return RefusedRowsError(error.reason, None if error.row is None else at + error.row)
            at += part.rows.num_rows
        return None
