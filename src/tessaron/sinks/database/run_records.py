"""The table in a database that says which runs have loaded what: a row for each, with receipt and layout."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from itertools import islice
from typing import TYPE_CHECKING, Any

from tessaron.sinks.ddl.long_texts import long_text

if TYPE_CHECKING:
    from sqlalchemy import Connection, Table

RUNS_TABLE, REJECTS_TABLE = "tessaron_runs", "tessaron_rejects"
_AT_ONCE = 1_000
_NAMED = 20
"""So many sources are named in words; the receipt has all."""


@dataclass(frozen=True, slots=True)
class RunRecord:
    """One run that loaded tables.

    Attributes:
        run: Its number, from 1.
        top: The table of the records.
        mode: What it did with tables that were there.
        receipt: Its receipt, as plain data.
        layout: Its layout, as a layout file.
        rows: The rows of each table once it was done.
        token: By which a ledger elsewhere knows the run; empty where none is kept.
    """

    run: int
    top: str
    mode: str
    receipt: dict[str, Any]
    layout: str
    rows: dict[str, int]
    token: str = ""


class RunRecords:
    """The table of runs in one schema.

    Args:
        connection: The database.
        schema: The schema; None for the one that the database takes by itself.
    """

    def __init__(self, connection: Connection, schema: str | None):
        self._connection = connection
        self._table, self._rejects = _table(schema), _rejects_table(schema)
        self._schema = schema

    def is_there(self) -> bool:
        """Say whether any run has been recorded."""
        from sqlalchemy import inspect

        inspector: Any = inspect(self._connection)
        return bool(inspector.has_table(RUNS_TABLE, schema=self._schema))

    def add(self, record: RunRecord) -> None:
        """Record a run."""
        self._table.create(self._connection, checkfirst=True)
        self._connection.execute(
            self._table.insert().values(
                run=record.run,
                top_table=record.top,
                mode=record.mode,
                started=record.receipt["started"],
                sources="; ".join(source["name"] for source in record.receipt["sources"][:_NAMED]),
                records=record.receipt["records"],
                rejected=record.receipt["rejected"],
                table_rows=json.dumps(record.rows),
                layout=record.layout,
                receipt=json.dumps(record.receipt),
                token=record.token,
            )
        )

    def add_rejects(self, run: int, rejects: Iterator[Mapping[str, Any]]) -> None:
        """Record what a run has rejected; nothing is made where there is nothing."""
        while rows := [_reject_row(run, each) for each in islice(rejects, _AT_ONCE)]:
            self._rejects.create(self._connection, checkfirst=True)
            self._connection.execute(self._rejects.insert(), rows)

    def next_number(self) -> int:
        """Return the number of the next run."""
        from sqlalchemy import func, select

        if not self.is_there():
            return 1
        found = self._connection.execute(select(func.max(self._table.c.run))).scalar()
        return int(found or 0) + 1

    def last(self, top: str | None = None) -> RunRecord | None:
        """Return the last run that loaded the records' table `top`, or any; None if there was none."""
        return self._one(top, self._table.c.run.desc())

    def _one(self, top: str | None, order: Any) -> RunRecord | None:
        from sqlalchemy import select

        if not self.is_there():
            return None
        wanted = select(self._table).order_by(order).limit(1)
        if top is not None:
            wanted = wanted.where(self._table.c.top_table == top)
        row = self._connection.execute(wanted).mappings().first()
        return None if row is None else _record_of(row)

    def every(self) -> Iterator[RunRecord]:
        """Yield all runs, the first one first."""
        from sqlalchemy import select

        if self.is_there():
            for row in self._connection.execute(select(self._table).order_by(self._table.c.run)).mappings():
                yield _record_of(row)

    def first(self, top: str) -> RunRecord | None:
        """Return the first run that loaded the records' table `top`; None if there was none."""
        return self._one(top, self._table.c.run)

    def with_token(self, token: str) -> tuple[int, str]:
        """Return the number of the run that has this token, and its records' table; 0 where none has."""
        from sqlalchemy import select

        columns = self._table.c
        if self.is_there():
            query = select(columns.run, columns.top_table).where(columns.token == token)
            for row in self._connection.execute(query):
                return int(row[0]), str(row[1])
        return 0, ""

    def tops(self) -> list[str]:
        """Return the tables of records that runs have loaded, by name."""
        from sqlalchemy import select

        if not self.is_there():
            return []
        found = self._connection.execute(select(self._table.c.top_table).distinct())
        return sorted(str(row[0]) for row in found)


def _record_of(row: Any) -> RunRecord:
    return RunRecord(
        row["run"], row["top_table"], row["mode"], json.loads(row["receipt"]), row["layout"],
        json.loads(row["table_rows"]), row["token"],
    )  # fmt: skip


def _table(schema: str | None) -> Table:
    from sqlalchemy import BigInteger, Column, MetaData, String, Table

    return Table(
        RUNS_TABLE,
        MetaData(),
        Column("run", BigInteger, primary_key=True, autoincrement=False),
        Column("top_table", String(128), nullable=False),
        Column("mode", String(16), nullable=False),
        Column("started", String(32), nullable=False),
        Column("sources", long_text(), nullable=False),
        Column("records", BigInteger, nullable=False),
        Column("rejected", BigInteger, nullable=False),
        Column("table_rows", long_text(), nullable=False),
        Column("layout", long_text(), nullable=False),
        Column("receipt", long_text(), nullable=False),
        Column("token", String(32), nullable=False),
        schema=schema,
    )


REJECT_TEXTS = ("source", "path", "code", "message", "rejected", "raw")
REJECT_NUMBERS = ("line", "byte_offset", "record", "column")
"""What is told of a reject; see `docs/rejects.md`."""


def _reject_row(run: int, reject: Mapping[str, Any]) -> dict[str, Any]:
    told = {name: reject.get(name) for name in (*REJECT_TEXTS, *REJECT_NUMBERS)}
    if told["raw"] is not None:
        # PostgreSQL has no letter for it.
        told["raw"] = str(told["raw"]).replace("\0", "\\x00")
    return {"run": run, **told}


def _rejects_table(schema: str | None) -> Table:
    from sqlalchemy import BigInteger, Column, MetaData, Table

    return Table(
        REJECTS_TABLE,
        MetaData(),
        Column("run", BigInteger, nullable=False),
        *(Column(name, long_text()) for name in REJECT_TEXTS),
        *(Column(name, BigInteger) for name in REJECT_NUMBERS),
        schema=schema,
    )
