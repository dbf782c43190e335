"""Records that repeat what must be there once: decided in the order of the run, by digests alone."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from tessaron.core.base.errors import Code
from tessaron.core.base.text_lane import Bools, Int64s
from tessaron.core.layout.table_set import Table
from tessaron.core.plan.plan import ColumnPlan, Plans
from tessaron.core.tables.laid import Laid
from tessaron.core.tables.lay_work import LaidResult, LayWork
from tessaron.core.tape.tape import Tape
from tessaron.write.across.once_rows import OnceDigests, OnceRows
from tessaron.write.across.uniqueness import FirstSeen, ValueDigests
from tessaron.write.books.account import Account
from tessaron.write.books.receipt import Finding


@dataclass(frozen=True, slots=True)
class RowDigests:
    """What decides which records of a chunk repeat others.

    Attributes:
        records: By table, the record of each row.
        firsts: Of each column whose values must be unique.
        once: Of each table with one row for a value.
    """

    records: Mapping[str, Int64s]
    firsts: tuple[ValueDigests, ...]
    once: tuple[OnceDigests, ...]


@dataclass(frozen=True, slots=True)
class WatchedRows:
    """What must be there once.

    Attributes:
        firsts: Columns of which a record that repeats a value is a reject.
        once: Tables with one row for a value.
    """

    firsts: tuple[ColumnPlan, ...]
    once: tuple[Table, ...]

    @classmethod
    def of(cls, plans: Plans) -> WatchedRows:
        """Return what plans say."""
        firsts = tuple(plan for plan in plans.uniques if plan.conditions.failed == "record")
        return cls(firsts, tuple(table for table in plans.records.written().tables if table.once))

    def __bool__(self) -> bool:
        return bool(self.firsts or self.once)

    def digests(self, laid: Laid) -> RowDigests:
        """Return what decides about a chunk."""
        firsts = []
        for plan in self.firsts:
            batch = laid.batches[plan.table]
            firsts.append(ValueDigests.of(batch.column(batch.schema.get_field_index(plan.name))))
        once = tuple(OnceDigests.of(table, laid.batches[table.name]) for table in self.once)
        return RowDigests(laid.records, tuple(firsts), once)


@dataclass(frozen=True)
class DigestingWork:
    """Makes rows as `LayWork` does, and adds what decides about repeats.

    Attributes:
        lays: What makes the rows.
        watched: What must be there once.
    """

    lays: LayWork
    watched: WatchedRows

    @property
    def plan(self) -> Any:
        """By what rows are made."""
        return self.lays.plan

    def __call__(self, task: Any) -> LaidResult:
        """Return what becomes of a chunk, or of what was put aside."""
        return self._digested(self.lays(task))

    def of(self, tape: Tape) -> LaidResult:
        """Return what becomes of a tape."""
        return self._digested(self.lays.of(tape))

    def _digested(self, result: LaidResult) -> LaidResult:
        result.digests = self.watched.digests(result.laid)
        return result


@dataclass
class RepeatedRecords:
    """Decides which records are left out, chunk by chunk in the order of the run.

    Attributes:
        watched: What must be there once.
        seen: What is known of each of the columns.
        account: Is told of the records that are left out.
    """

    watched: WatchedRows
    seen: Sequence[FirstSeen]
    account: Account
    _once: list[OnceRows] = field(init=False)

    def __post_init__(self) -> None:
        self._once = [OnceRows(table) for table in self.watched.once]

    def dropped(
        self, digests: RowDigests, record_count: int, source: str, records_before: int
    ) -> Bools | None:
        """Return the records of the next chunk that repeat what must be there once; None for none.

        Args:
            digests: What decides.
            record_count: The records of the chunk.
            source: Where it is from.
            records_before: Records of that source before it.
        """
        dropped = np.zeros(record_count, np.bool_)
        for once, rows in zip(self._once, digests.once, strict=True):
            conflicts = once.conflicts(rows)
            if conflicts.any():
                records = digests.records[once.table.name][conflicts]
                for record in np.unique(records[~dropped[records]]).tolist():
                    self.account.reject_conflict(once.table, source, records_before + record + 1)
                dropped[records] = True
        for plan, seen, values in zip(self.watched.firsts, self.seen, digests.firsts, strict=True):
            repeats = seen.repeats(values)
            if repeats.any():
                records = digests.records[plan.table][repeats]
                for record in np.unique(records[~dropped[records]]).tolist():
                    self.account.reject_repeat(plan, source, records_before + record + 1)
                dropped[records] = True
                self._say_repeats(plan, int(repeats.sum()), source)
        return dropped if dropped.any() else None

    def new_once(self, digests: RowDigests, dropped: Bools | None) -> dict[str, Int64s]:
        """Return, by table, the rows that are left whose value has none yet."""
        found = {}
        for once, rows in zip(self._once, digests.once, strict=True):
            name = once.table.name
            left = rows if dropped is None else rows.left(~dropped[digests.records[name]])
            found[name] = once.new(left)
        return found

    def _say_repeats(self, plan: ColumnPlan, count: int, source: str) -> None:
        name = f"{plan.table}.{plan.name}"
        known = next(
            (each for each in self.account.findings() if (each.code, each.name) == ("unique", name)), None
        )
        reason = known.example if known else f"a value is there already ({source})"
        total = count + (known.count if known else 0)
        self.account.note(Finding(Code.UNIQUE, name, plan.text, "record", total, reason))
