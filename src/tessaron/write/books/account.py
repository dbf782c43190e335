"""What a run by a layout did, added up: filtered, left out, rejected, noted, never met."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass, field, replace

from tessaron.core.base.errors import Code, DataError, Place
from tessaron.core.layout.table_set import Table
from tessaron.core.plan.plan import ColumnPlan
from tessaron.core.tables.laid import Laid
from tessaron.core.tables.lay_work import CasePlace
from tessaron.core.tables.problems import Case, Told
from tessaron.engine.aside.reject_log import Reject, RejectLog, raw_text
from tessaron.write.books.outcome import Counted
from tessaron.write.books.receipt import Finding


@dataclass
class Account:
    """Takes in what became of each chunk.

    Attributes:
        paths: Tables and columns by name, with how the layout spells their path.
        records: Records in the tables.
        rejected: Records left out because of a problem.
        rejected_values: Values that are null in the table because they did not fit.
        filtered: Rows that filters took away, by table.
        left_out: Values that no column has, by path.
        log: Records and values that were rejected.
        met: Tables and columns whose path stood somewhere.
        read, gone, unfit: As in `Laid`.
    """

    paths: Mapping[str, str]
    records: int = 0
    rejected: int = 0
    rejected_values: int = 0
    filtered: Counter[str] = field(default_factory=Counter)
    left_out: Counter[str] = field(default_factory=Counter)
    log: RejectLog = field(default_factory=RejectLog)
    met: set[str] = field(default_factory=set)
    read: Counter[str] = field(default_factory=Counter)
    gone: Counter[str] = field(default_factory=Counter)
    unfit: Counter[str] = field(default_factory=Counter)
    _findings: dict[tuple[str, str], Finding] = field(default_factory=dict)

    def add(
        self,
        laid: Laid,
        source: str,
        records_before: int,
        places: Mapping[int, CasePlace] | None = None,
        are_records: bool = True,
    ) -> None:
        """Take in a chunk.

        Args:
            laid: What became of it.
            source: Where it is from.
            records_before: Records of that source before it.
            places: Where the records of problems stand, where that is known.
            are_records: Whether it holds records, and not what stands around them.

        Raises:
            DataError: For a problem after which the layout wants the run to stop.
        """
        if are_records:
            self.records += laid.record_count - laid.rejected
            self.rejected += laid.rejected
        self.filtered.update(laid.filtered)
        self.left_out.update(laid.left_out)
        self.left_out.update(laid.passed)
        self.met |= laid.met
        self.read.update(laid.read)
        self.gone.update(laid.gone)
        self.unfit.update(laid.unfit)
        for problem in laid.problems:
            self._add_problem(problem, source, records_before, places or {})

    def _add_problem(
        self, problem: Told, source: str, records_before: int, places: Mapping[int, CasePlace]
    ) -> None:
        first = problem.cases[0]
        place = _place(first, source, records_before, places)
        if problem.outcome == "stop":
            raise DataError(f"{problem.name}: {first.reason}; the layout says to stop", place, problem.code)
        if problem.outcome == "value":
            self.rejected_values += problem.count
        known = self._findings.get((problem.code, problem.name))
        self._findings[problem.code, problem.name] = Finding(
            problem.code,
            problem.name,
            problem.path,
            problem.outcome,
            problem.count + (known.count if known else 0),
            known.example if known else f"{first.reason} ({replace(place, path=None)})",
        )
        if problem.outcome != "note":
            for case in problem.cases:
                found = places.get(case.record)
                raw = None if found is None else found.raw
                self.log.add(_reject(case, _place(case, source, records_before, places), raw))

    def reject_repeat(self, plan: ColumnPlan, source: str, record: int) -> None:
        """List a record that repeats a value which must be unique."""
        message = f"{plan.table}.{plan.name}: the value is there already"
        self.log.add(Reject(source, None, None, record, plan.text, "unique", message, is_whole=False))

    def reject_conflict(self, table: Table, source: str, record: int) -> None:
        """List a record that says something else of a value than the row which that has."""
        what = " and ".join(table.once)
        message = f"{table.name}: another row for this {what} is there already, with other values"
        self.log.add(Reject(source, None, None, record, "", Code.ONCE, message, is_whole=False))
        known = self._findings.get((Code.ONCE, table.name))
        count = 1 + (known.count if known else 0)
        example = known.example if known else f"{message} ({source})"
        self._findings[Code.ONCE, table.name] = Finding(Code.ONCE, table.name, "", "record", count, example)

    def findings(self) -> tuple[Finding, ...]:
        """Return what did not hold, the rejects first."""
        order = ("record", "value", "note")
        return tuple(
            sorted(self._findings.values(), key=lambda each: (order.index(each.outcome), -each.count))
        )

    def note(self, finding: Finding) -> None:
        """Add what was found by looking at the whole run."""
        self._findings[finding.code, finding.name] = finding

    def counted(self) -> dict[str, Counted]:
        """Return what was read for tables and columns, and what of it is not to be written."""
        return {name: Counted(read, self.gone[name], self.unfit[name]) for name, read in self.read.items()}

    def unmet(self) -> tuple[str, ...]:
        """Return the tables and columns whose path never stood anywhere, each with its path."""
        if not self.records and not self.rejected:
            return ()
        return tuple(f"{name}: {path}" for name, path in self.paths.items() if name not in self.met)


def _place(case: Case, source: str, records_before: int, places: Mapping[int, CasePlace]) -> Place:
    found = places.get(case.record)
    number = records_before + case.record + 1
    if found is None:
        return Place(source, None, None, number, case.path or None)
    known = found.record or number
    return Place(found.source or source, found.line, found.byte_offset, known, case.path or None)


def _reject(case: Case, place: Place, raw: bytes | None) -> Reject:
    text, is_whole = raw_text(raw)
    return Reject(
        place.source, place.line, place.byte_offset, place.record, place.path, case.code,
        f"{case.name}: {case.reason}", "record" if case.outcome == "record" else "value",
        None, text, is_whole,
    )  # fmt: skip
