"""What loading asks of its target: tables in a database, or in a lake."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from types import TracebackType
from typing import Any, Protocol, Self

from tessaron.core.base.arrays import ArrowRows
from tessaron.core.layout.table_set import Table
from tessaron.core.types.column_types import ColumnType
from tessaron.sinks.collected_rows import CollectedRows
from tessaron.sinks.database.run_records import RunRecord


@dataclass(frozen=True, slots=True)
class RowsThere:
    """How many rows a table has.

    Attributes:
        before: When the load began.
        after: At its end.
    """

    before: int
    after: int


class PastRuns(Protocol):
    """The runs that have loaded a target."""

    def tops(self) -> list[str]:
        """Return the tables of records that runs have loaded, by name."""

    def last(self, top: str | None = None) -> RunRecord | None:
        """Return the last run that loaded the records' table `top`, or any; None if there was none."""

    def every(self) -> Iterator[RunRecord]:
        """Yield all runs, the first one first."""

    def with_token(self, token: str) -> tuple[int, str]:
        """Return the number of the run that has this token, and its records' table; 0 where none has."""


class OpenTarget(Protocol):
    """What a load goes into, open: a database with its transaction, or a catalog.

    Attributes:
        name: What it is called in messages: without its password.
    """

    name: str

    @property
    def past_runs(self) -> PastRuns:
        """The runs that have loaded before."""

    def __enter__(self) -> Self: ...

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None: ...

    def begin_alone(self) -> None:
        """Begin, once no other load is under way: what is read from now on stays true."""

    def commit(self) -> None:
        """Make visible what was written."""

    def told(self) -> Any:
        """Return a context in which what the target says becomes an error that names it."""


class LoadTarget(Protocol):
    """A context; what is not committed leaves no trace.

    Attributes:
        name: What it is called in messages: without its password.
        kind: What receipts call it.
        collected: The rows so far.
        removed: How many rows were taken out of each table.
    """

    name: str
    collected: CollectedRows

    @property
    def kind(self) -> str:
        """What receipts call it."""

    @property
    def removed(self) -> Mapping[str, int]:
        """How many rows were taken out of each table."""

    def __enter__(self) -> LoadTarget: ...

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None: ...

    def loaded_before(self) -> dict[str, str]:
        """Return the tables of records that runs have loaded, with the layout of the last run of each."""

    def begin(self, tables: Sequence[Table], required: frozenset[str], most_bytes: int) -> None:
        """Look at what is there, and make what is lacking."""

    def can_widen(self, before: ColumnType, after: ColumnType) -> bool:
        """Say whether a column that is there can get a wider type."""

    def last_keys(self) -> dict[str, int]:
        """Return the largest key of each table that was there and stays, so that keys go on."""

    def write(self, batches: Mapping[str, ArrowRows]) -> None:
        """Take in rows of tables."""

    def finish(self) -> dict[str, RowsThere]:
        """Send what is left; return how many rows there are."""

    def next_number(self) -> int:
        """Return the number of the next run."""

    def commit(
        self, record: RunRecord, rejects: Iterator[Mapping[str, Any]], also: Callable[[RunRecord], None]
    ) -> None:
        """Record the run and what it has rejected, do what else belongs to it, and make it all visible."""

    def answer(self, tables: Sequence[Table]) -> tuple[str, int]:
        """Return a query that joins tables by their keys, and how many rows it returns."""
