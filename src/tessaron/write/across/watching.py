"""Which columns are watched over a whole run: natural keys, what must be unique, what could be a key."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from contextlib import ExitStack
from dataclasses import dataclass

from tessaron.core.base.arrays import ArrowRows
from tessaron.core.plan.plan import Plans
from tessaron.write.across.uniqueness import CandidateKeys, KeyDigests, UniqueCheck
from tessaron.write.books.receipt import KeyCheck


@dataclass(frozen=True, slots=True)
class _Watched:
    table: str
    columns: tuple[str, ...]
    outcome: str
    check: UniqueCheck


class Watches:
    """Takes in the rows of a run, and knows at the end what was there more than once."""

    def __init__(self, plans: Plans, stack: ExitStack):
        self._watched = [
            _Watched(table, columns, outcome, stack.enter_context(UniqueCheck(columns)))
            for table, columns, outcome in _wanted(plans)
        ]

    @property
    def watched(self) -> tuple[tuple[str, tuple[str, ...]], ...]:
        """The tables and columns that are watched."""
        return tuple((each.table, each.columns) for each in self._watched)

    def take(self, found: Sequence[KeyDigests | None]) -> None:
        """Take in rows by the digests of each of `watched`; None where there were no rows."""
        for each, digests in zip(self._watched, found, strict=True):
            if digests is not None:
                each.check.take(digests)

    def add(self, batches: Mapping[str, ArrowRows]) -> None:
        """Take in the rows of a chunk."""
        for watched in self._watched:
            batch = batches.get(watched.table)
            if batch is not None and batch.num_rows:
                watched.check.add(batch)

    def repeats(self) -> Iterator[tuple[str, str, int]]:
        """Yield the columns that are no key with values that are there more than once.

        Yields:
            The column as `table.column`, what the layout says of it, and how many rows repeat a value.
        """
        for watched in self._watched:
            count = watched.check.duplicates() if watched.outcome != "key" else 0
            if count:
                yield f"{watched.table}.{watched.columns[0]}", watched.outcome, count

    def key_checks(self) -> tuple[KeyCheck, ...]:
        """Return how the natural keys of the tables stood the test of being unique."""
        return tuple(
            KeyCheck(each.columns, each.check.duplicates(), each.check.nulls, each.table)
            for each in self._watched
            if each.outcome == "key"
        )


def _wanted(plans: Plans) -> Iterator[tuple[str, tuple[str, ...], str]]:
    for table, columns in plans.keys.items():
        yield table, columns, "key"
    for plan in plans.uniques:
        if plan.conditions.failed != "record":
            yield plan.table, (plan.name,), plan.conditions.failed


class DraftedKeyWatch:
    """Watches the top table of a drafted layout: the key that was asked for, and columns that could be one.

    Args:
        table: The top table.
        key: Its natural key; the digest that is its row key; nothing.
        possible: Columns that could be a natural key.
        stack: Closes what is collected.
    """

    def __init__(self, table: str, key: tuple[str, ...], possible: Sequence[str], stack: ExitStack):
        self._table = table
        self._check = stack.enter_context(UniqueCheck(key)) if key else None
        self._candidates = stack.enter_context(CandidateKeys(list(possible)))

    def add(self, batches: Mapping[str, ArrowRows]) -> None:
        """Take in the rows of a chunk."""
        batch = batches.get(self._table)
        if batch is not None and batch.num_rows:
            self._candidates.add(batch)
            if self._check is not None:
                self._check.add(batch)

    @property
    def watched(self) -> tuple[str, tuple[str, ...], tuple[str, ...]]:
        """The table, the key that is watched, and the columns that could still be one."""
        return self._table, () if self._check is None else self._check.columns, self._candidates.possible

    def take(self, key: KeyDigests | None, possible: Mapping[str, KeyDigests | None]) -> None:
        """Take in rows by their digests: of the key that is watched, and of each column that could be one."""
        self._candidates.take(possible)
        if self._check is not None and key is not None:
            self._check.take(key)

    def key_check(self) -> KeyCheck | None:
        """Return how the key of the top table stood the test of being unique; None if there was none."""
        if self._check is None:
            return None
        return KeyCheck(self._check.columns, self._check.duplicates(), self._check.nulls)

    def candidate_keys(self) -> tuple[str, ...]:
        """Return the columns that could be the natural key of the top table."""
        return tuple(self._candidates.names())
