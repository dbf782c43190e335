"""The receipt: what a run read and wrote, with totals that must add up."""

from __future__ import annotations

import json
from dataclasses import asdict, dataclass
from typing import Any

RECEIPT_FILE = "receipt.json"


@dataclass(frozen=True, slots=True)
class SourceRead:
    """One source: its name, the bytes and the records read from it."""

    name: str
    bytes: int
    records: int


@dataclass(frozen=True, slots=True)
class ColumnWritten:
    """One column: its name and type, the path it comes from (None for a key), and why it is widened."""

    name: str
    type: str
    path: str | None = None
    note: str = ""


@dataclass(frozen=True, slots=True)
class TableWritten:
    """One table: its file in the target folder, its rows, and its columns, key columns first."""

    name: str
    file: str
    rows: int
    parent: str | None
    primary_key: tuple[str, ...]
    foreign_key: tuple[str, ...]
    columns: tuple[ColumnWritten, ...]


@dataclass(frozen=True, slots=True)
class Receipt:
    """What one run did.

    Attributes:
        version: Version of Tessaron.
        started: When the run began: ISO 8601, UTC.
        seconds: How long it took.
        format: `parquet` or `csv`.
        target: The folder written.
        sources: What was read, in order.
        records: Records read, all sources together.
        tables: What was written, parents before children.
    """

    version: str
    started: str
    seconds: float
    format: str
    target: str
    sources: tuple[SourceRead, ...]
    records: int
    tables: tuple[TableWritten, ...]

    @property
    def rows(self) -> int:
        """Rows written, all tables together."""
        return sum(table.rows for table in self.tables)

    def to_dict(self) -> dict[str, Any]:
        """Return the receipt as plain data, as it stands in `receipt.json`."""
        return asdict(self)

    def to_json(self) -> str:
        """Return the text of `receipt.json`."""
        return json.dumps(self.to_dict(), indent=2, ensure_ascii=False) + "\n"
