"""The receipt: what a run read and wrote, with totals that must add up."""

from __future__ import annotations

import json
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path

from tessaron.core.base.errors import Code, SourceError
from tessaron.core.base.parsed_values import Parsed
from tessaron.core.base.shown_forms import Figured
from tessaron.core.layout.table_set import SharedPlace
from tessaron.engine.intake import SourceRead
from tessaron.sinks.receipt_text import plain_data, spread_json
from tessaron.sinks.target_folder import RECEIPT_FILE, REJECTS_FILE
from tessaron.write.books.balance import Balance, gaps


@dataclass(frozen=True, slots=True)
class Note:
    """Something recognised about a path."""

    path: str
    text: str


@dataclass(frozen=True, slots=True)
class ColumnWritten:
    """One column: its name and type, the path it comes from (None for a key), and why it is widened."""

    name: str
    type: str
    path: str | None = None
    note: str = ""


@dataclass(frozen=True, slots=True)
class ForeignKey:
    """A column that holds the primary key of a row of another table (or of the same)."""

    column: str
    table: str


@dataclass(frozen=True, slots=True)
class KeyCheck:
    """How a key stood the test: rows that have the values of an earlier one, rows with a null in it."""

    columns: tuple[str, ...]
    duplicates: int
    nulls: int
    table: str = ""

    @property
    def passed(self) -> bool:
        """Whether the key is one."""
        return not self.duplicates and not self.nulls


@dataclass(frozen=True, slots=True)
class Finding:
    """Something that did not hold in a run by a layout: how often, what became of it, and the first case.

    `outcome` is what was rejected, `record` or `value`, or `note` where nothing was.
    """

    code: str
    name: str
    path: str
    outcome: str
    count: int
    example: str


@dataclass(frozen=True, slots=True)
class LeftOut:
    """Values at a path that no column has."""

    path: str
    values: int


@dataclass(frozen=True, slots=True)
class TableWritten:
    """One table: its file in the target folder, its rows, its digest, its columns with the keys first.

    Of a shared table also the places of its rows, each with the table that they belong to there.
    """

    name: str
    file: str
    rows: int
    sha256: str
    parent: str | None
    primary_key: tuple[str, ...]
    references: tuple[ForeignKey, ...]
    columns: tuple[ColumnWritten, ...]
    places: tuple[SharedPlace, ...] = ()


@dataclass(frozen=True, slots=True)
class WorkerDone:
    """What one worker of a cluster did: tasks, seconds of work, and the most memory it had, in bytes."""

    worker: str
    tasks: int
    seconds: float
    peak_bytes: int


@dataclass(frozen=True, slots=True)
class ClusterDone:
    """What a cluster did for a run: its address, the parts that were written, and its workers."""

    address: str
    parts: int
    workers: tuple[WorkerDone, ...]


@dataclass(frozen=True, slots=True)
class Receipt(Figured):
    """What one run did.

    Attributes:
        version: Version of Tessaron.
        started: When the run began: ISO 8601, UTC.
        seconds: How long it took.
        format: How the tables stand: `parquet`, `csv` and so on, or the dialect of a database.
        target: The folder written.
        sources: What was read, in order.
        records: Records in the tables, all sources together.
        rejected: Records left out; they stand in `rejects.ndjson`.
        repeated_names: Values that gave way to a later one of the same name in the same object.
        tables: What was written, parents before children.
        notes: What was recognised in the structure.
        candidate_keys: Columns of the top table that are never null and have every value once.
        key_check: How the natural key, or the digest of the records, stood the test of being unique.
        layout: The layout file, if there was one.
        key_checks: How the natural keys of all tables of a layout stood that test.
        filtered: Rows that the filters of a layout took away, by table.
        left_out: What was not chosen.
        rejected_values: Values that did not fit: null in the table; they stand in `rejects.ndjson`.
        findings: What did not hold, by column.
        unmet: Tables and columns of the layout whose path stood nowhere.
        reasons: How many rejects there are of each code.
        for_spreadsheets: Whether texts of CSV that look like formulas begin with an apostrophe.
        form: What was said of the files; see `FileForm`.
        is_ordered: Whether rows stand in the order in which they came.
        cluster: What a cluster did for the run; None where there was none, and then left out of `to_dict`.
        is_whole: Whether all that was read was to be taken: no layout chose, and no pattern.
        depth_limit: The deepest nesting that was read.
        balance: What was counted at different places of the run; see `balance`.
    """

    version: str
    started: str
    seconds: float
    format: str
    target: str
    sources: tuple[SourceRead, ...]
    records: int
    rejected: int
    repeated_names: int
    tables: tuple[TableWritten, ...]
    notes: tuple[Note, ...] = ()
    candidate_keys: tuple[str, ...] = ()
    key_check: KeyCheck | None = None
    layout: str | None = None
    key_checks: tuple[KeyCheck, ...] = ()
    filtered: dict[str, int] = field(default_factory=dict)
    left_out: tuple[LeftOut, ...] = ()
    rejected_values: int = 0
    findings: tuple[Finding, ...] = ()
    unmet: tuple[str, ...] = ()
    reasons: dict[str, int] = field(default_factory=dict)
    for_spreadsheets: bool = False
    form: dict[str, Parsed] = field(default_factory=dict)
    is_ordered: bool = True
    is_whole: bool = False
    depth_limit: int = 0
    balance: tuple[Balance, ...] = ()
    cluster: ClusterDone | None = None

    @property
    def passed(self) -> bool:
        """Whether nothing was rejected and every key is one."""
        checks = [check for check in (self.key_check, *self.key_checks) if check is not None]
        fine = not self.rejected and not self.rejected_values and all(check.passed for check in checks)
        return fine and not self.gaps

    @property
    def gaps(self) -> list[Balance]:
        """The sums that are not right: something was lost on the way, by a fault of Tessaron."""
        return gaps(self.balance)

    @property
    def misses(self) -> bool:
        """Whether paths of the layout stood nowhere, or values had no column among numbered ones or flags."""
        return bool(self.unmet) or any(each.code in (Code.BEYOND, Code.NO_FLAG) for each in self.findings)

    @property
    def rows(self) -> int:
        """Rows written, all tables together."""
        return sum(table.rows for table in self.tables)

    def to_dict(self) -> dict[str, Parsed]:
        """Return the receipt as plain data, as it stands in `receipt.json`."""
        told = dict(plain_data(self))
        if self.cluster is None:
            del told["cluster"]
        return told

    def to_json(self) -> str:
        """Return the text of `receipt.json`."""
        return spread_json(self.to_dict()) + "\n"


def read_rejects(folder: Path) -> Iterator[dict[str, Parsed]]:
    """Yield the rejects of the export in a folder, in their order."""
    path = folder / REJECTS_FILE
    if path.exists():
        with open(path, encoding="utf-8") as file:
            for line in file:
                yield json.loads(line)


def read_receipt(folder: Path) -> dict[str, Parsed]:
    """Return the receipt of an export; nothing where there is none.

    Raises:
        SourceError: When it cannot be read.
    """
    path = folder / RECEIPT_FILE
    if not path.exists():
        return {}
    try:
        found = json.loads(path.read_text("utf-8"))
    except (OSError, ValueError) as error:
        raise SourceError(f"{path}: cannot be read: {error}") from error
    if not isinstance(found, dict):
        raise SourceError(f"{path}: is no receipt")
    return found
