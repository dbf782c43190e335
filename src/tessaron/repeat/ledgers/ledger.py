"""The ledger: which deliveries are done, and how far feeds came; in a database of its own, or the target."""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import asdict, dataclass, fields
from datetime import UTC, datetime
from hashlib import blake2b
from typing import TYPE_CHECKING, Any, Literal

from tessaron.sinks.ddl.long_texts import long_text

if TYPE_CHECKING:
    from sqlalchemy import Connection

LEDGER_TABLE, MARKS_TABLE = "tessaron_ledger", "tessaron_marks"
State = Literal["begun", "loaded", "aside", "same"]
_AT_ONCE = 5_000


@dataclass(frozen=True, slots=True)
class Entry:
    """What the ledger says of one delivery.

    Attributes:
        source: Its full name.
        size: Its bytes; -1 where nothing tells.
        stamp: When it was changed, or another sign of that, as its place says; empty where nothing tells.
        digest: The BLAKE2b digest of its bytes; empty where they were not looked at.
        run: The run that has loaded it; 0 for none.
        state: `loaded`; `same` as another one that is; put `aside`, as it could not be loaded; `begun` where
            a run has not told how it ended.
        records, rejected: What was read of it.
        said: Why it was put aside, or as which other it is the same.
        at: When, in UTC.
        token: Of the run, which the target has, too.
    """

    source: str
    size: int
    stamp: str
    digest: str
    run: int = 0
    state: State = "loaded"
    records: int = 0
    rejected: int = 0
    said: str = ""
    at: str = ""
    token: str = ""


class Ledger:
    """The entries of one target's feed.

    Args:
        connection: The database; what is written belongs to the transaction that is under way there.
        schema: The schema of the tables; None for the one that the database takes by itself.
        target: What is loaded into; empty where the ledger stands in it.
        feed: The records' table.
    """

    def __init__(self, connection: Connection, schema: str | None, target: str, feed: str):
        self._connection = connection
        self._entries, self._marks = _entries_table(schema), _marks_table(schema)
        self._read = [self._entries.c[each.name] for each in fields(Entry)]
        self._own = {"target": target, "feed": feed}
        for table in (self._entries, self._marks):
            table.create(connection, checkfirst=True)

    def known(self, sources: Sequence[str]) -> dict[str, Entry]:
        """Return the last entry of each source that has one."""
        from sqlalchemy import select

        found: dict[str, Entry] = {}
        columns = self._entries.c
        for names in _parts(sources):
            keys = {_key_of(name) for name in names}
            query = select(*self._read).where(self._is_own(), columns.source_key.in_(keys))
            for row in self._connection.execute(query.order_by(columns.number)):
                found[row[0]] = _entry(row)
        return found

    def with_digests(self, digests: Iterable[str]) -> dict[str, Entry]:
        """Return by their digests the entries that have these bytes and are loaded."""
        from sqlalchemy import select

        found: dict[str, Entry] = {}
        columns = self._entries.c
        for some in _parts(sorted(set(digests))):
            is_wanted = (columns.digest.in_(some), columns.state == "loaded")
            for row in self._connection.execute(select(*self._read).where(self._is_own(), *is_wanted)):
                found[row[3]] = _entry(row)
        return found

    def every(self) -> Iterator[Entry]:
        """Yield all entries, in the order in which they came."""
        from sqlalchemy import select

        query = select(*self._read).where(self._is_own()).order_by(self._entries.c.number)
        for row in self._connection.execute(query):
            yield _entry(row)

    def count(self) -> int:
        """Return how many entries there are."""
        from sqlalchemy import func, select

        query = select(func.count()).select_from(self._entries).where(self._is_own())
        return int(self._connection.execute(query).scalar() or 0)

    def names_but(self, sources: Iterable[str], known: int, most: int) -> tuple[int, list[str]]:
        """Return how many sources are known that are not among these, and the first of them by name.

        Args:
            sources: These sources.
            known: How many of them are known: mostly all that are, and then nothing more is asked.
            most: How many names are wanted.
        """
        from sqlalchemy import func, select

        entries, here = self._entries, set(sources)
        every = select(func.count(func.distinct(entries.c.source_key))).where(self._is_own())
        gone = int(self._connection.execute(every).scalar() or 0) - known
        if gone <= 0:
            return 0, []
        first: list[str] = []
        names = select(entries.c.source).where(self._is_own())
        for row in self._connection.execute(names.execution_options(yield_per=_AT_ONCE)):
            if row[0] not in here and row[0] not in first:
                first.append(row[0])
            if len(first) == min(most, gone):
                break
        return gone, first

    def add(self, entries: Sequence[Entry]) -> None:
        """Write entries."""
        if not entries:
            return
        first = self._next_number()
        now = datetime.now(UTC).isoformat(timespec="seconds")
        rows = [
            {
                **self._own,
                **asdict(each),
                "number": number,
                "source_key": _key_of(each.source),
                "at": each.at or now,
            }
            for number, each in enumerate(entries, first)
        ]
        self._connection.execute(self._entries.insert(), rows)

    def settle(self, token: str, run: int, feed: str = "") -> None:
        """Take in how a run that was begun has ended.

        Args:
            token: Of the run.
            run: Its number in the target; 0 where the target has nothing of it.
            feed: The records' table that it has loaded.
        """
        entries, marks = self._entries, self._marks
        begun = (self._is_own(), entries.c.token == token, entries.c.state == "begun")
        of_marks = (self._is_own(marks), marks.c.token == token)
        if run:
            # Of what could not be read it is told why.
            for is_aside, state in ((entries.c.said != "", "aside"), (entries.c.said == "", "loaded")):
                ended = entries.update().where(*begun, is_aside)
                self._connection.execute(ended.values(state=state, run=run, feed=feed))
            self._connection.execute(marks.update().where(*of_marks).values(token="", feed=feed))
        else:
            self._connection.execute(entries.delete().where(*begun))
            self._connection.execute(marks.delete().where(*of_marks))

    def tell(self, entries: Sequence[Entry], token: str) -> None:
        """Write what was read of the sources that a run has begun with."""
        for each in entries:
            meant = (self._entries.c.token == token, self._entries.c.source_key == _key_of(each.source))
            found = {"records": each.records, "rejected": each.rejected, "said": each.said}
            self._connection.execute(self._entries.update().where(self._is_own(), *meant).values(**found))

    def unsettled(self) -> list[str]:
        """Return the tokens of runs that have not told how they ended."""
        from sqlalchemy import select

        found: set[str] = set()
        for table, more in ((self._entries, (self._entries.c.state == "begun",)), (self._marks, ())):
            query = select(table.c.token).where(self._is_own(table), table.c.token != "", *more).distinct()
            found |= {str(row[0]) for row in self._connection.execute(query)}
        return sorted(found)

    def mark(self, source: str) -> str | int | None:
        """Return how far a feed came; None where that is not known."""
        from sqlalchemy import select

        columns = self._marks.c
        query = select(columns.mark).where(self._is_own(self._marks), columns.source_key == _key_of(source))
        found = self._connection.execute(query.order_by(columns.number.desc()).limit(1)).scalar()
        return None if found is None else json.loads(found)

    def set_mark(self, source: str, mark: str | int, token: str = "") -> None:
        """Keep how far a feed came."""
        from sqlalchemy import func, select

        key = _key_of(source)
        number = int(self._connection.execute(select(func.max(self._marks.c.number))).scalar() or 0) + 1
        if not token:
            is_meant = (self._is_own(self._marks), self._marks.c.source_key == key)
            self._connection.execute(self._marks.delete().where(*is_meant))
        row = {
            "number": number,
            "source": source,
            "source_key": key,
            "mark": json.dumps(mark),
            "token": token,
        }
        self._connection.execute(self._marks.insert(), [{**self._own, **row}])

    def _is_own(self, table: Any = None) -> Any:
        columns = (self._entries if table is None else table).c
        return (columns.target == self._own["target"]) & (columns.feed == self._own["feed"])

    def _next_number(self) -> int:
        from sqlalchemy import func, select

        return int(self._connection.execute(select(func.max(self._entries.c.number))).scalar() or 0) + 1


def feeds_of(connection: Connection, schema: str | None, target: str) -> list[str]:
    """Return the records' tables that a ledger has entries or marks for; none where there is no ledger."""
    from sqlalchemy import inspect, select

    found: set[str] = set()
    for table in (_entries_table(schema), _marks_table(schema)):
        if inspect(connection).has_table(table.name, schema=schema):
            query = select(table.c.feed).where(table.c.target == target).distinct()
            found |= {str(row[0]) for row in connection.execute(query)}
    return sorted(found)


def _parts(values: Sequence[str]) -> Iterator[Sequence[str]]:
    for start in range(0, len(values), _AT_ONCE):
        yield values[start : start + _AT_ONCE]


def _key_of(source: str) -> str:
    """Return what a source is looked up by: names may be longer than what databases index."""
    return blake2b(source.encode("utf-8", "surrogateescape"), digest_size=16).hexdigest()


def _entry(row: Any) -> Entry:
    return Entry(*row)


def _entries_table(schema: str | None) -> Any:
    from sqlalchemy import BigInteger, Column, Index, MetaData, String, Table

    return Table(
        LEDGER_TABLE,
        MetaData(),
        Column("number", BigInteger, primary_key=True, autoincrement=False),
        Column("target", String(255), nullable=False),
        Column("feed", String(128), nullable=False),
        Column("source", long_text(), nullable=False),
        Column("source_key", String(32), nullable=False),
        Column("size", BigInteger, nullable=False),
        Column("stamp", String(255), nullable=False),
        Column("digest", String(64), nullable=False),
        Column("run", BigInteger, nullable=False),
        Column("state", String(8), nullable=False),
        Column("records", BigInteger, nullable=False),
        Column("rejected", BigInteger, nullable=False),
        Column("said", long_text(), nullable=False),
        Column("at", String(32), nullable=False),
        Column("token", String(32), nullable=False),
        Index("tessaron_ledger_source", "target", "feed", "source_key"),
        Index("tessaron_ledger_digest", "digest"),
        schema=schema,
    )


def _marks_table(schema: str | None) -> Any:
    from sqlalchemy import BigInteger, Column, MetaData, String, Table

    return Table(
        MARKS_TABLE,
        MetaData(),
        Column("number", BigInteger, primary_key=True, autoincrement=False),
        Column("target", String(255), nullable=False),
        Column("feed", String(128), nullable=False),
        Column("source", long_text(), nullable=False),
        Column("source_key", String(32), nullable=False),
        Column("mark", long_text(), nullable=False),
        Column("token", String(32), nullable=False),
        schema=schema,
    )
