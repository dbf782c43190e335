"""What is read of a database, as users say it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

from tessaron.core.base.errors import UsageError


@dataclass(frozen=True, slots=True)
class DatabaseQuery:
    """What is read of a database.

    Attributes:
        url: Where it is, as SQLAlchemy spells it: `postgresql://user@host/name`, `sqlite:///file.db`.
        text: A query; or else
        table: The name of a table, perhaps with its schema: `office.inbox`.
        documents: The columns that hold JSON; else they are found.
        mark: The column that grows with what is new, such as a number or the moment of a change.
        so_far: How far an earlier run came: only rows beyond that are read.
        again: Whether rows that are just as far are read again: more may have come since.
    """

    url: str = field(repr=False)
    text: str | None = None
    table: str | None = None
    documents: Sequence[str] = ()
    mark: str | None = None
    so_far: str | int | None = None
    again: bool = False

    def __post_init__(self) -> None:
        if (self.text is None) == (self.table is None):
            raise UsageError("expected either a query or a table to read")

    @property
    def title(self) -> str:
        """The word for its rows."""
        return "records" if self.table is None else self.table.rpartition(".")[2]
