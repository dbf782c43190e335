"""What was read of a source, and what was rejected: a record or a value, with its place and the reason."""

from __future__ import annotations

import json
from dataclasses import dataclass

from tessaron.core.base.errors import DataError, Place
from tessaron.core.base.faults import MOST_RAW_BYTES
from tessaron.engine.receipt_text import plain_data


@dataclass(frozen=True, slots=True)
class SourceRead:
    """One source: its name, the bytes read, the records in the tables, and those left out."""

    name: str
    bytes: int
    records: int
    rejected: int = 0


def raw_text(raw: bytes | None) -> tuple[str | None, bool]:
    """Return a record for the rejects, cut when it is long, and whether it is whole."""
    if raw is None:
        return None, False
    trimmed = raw.strip(b" \t\r\n,")
    return trimmed[:MOST_RAW_BYTES].decode("utf-8", "backslashreplace"), len(trimmed) <= MOST_RAW_BYTES


@dataclass(frozen=True, slots=True)
class Reject:
    """A record that was left out: where it stood, and why."""

    source: str
    line: int | None
    byte_offset: int | None
    record: int | None
    path: str | None
    code: str
    message: str
    rejected: str = "record"
    """What was left out: the `record`, only the `value`, which is null in the table, or the `rest` of the
    source behind this place."""
    column: int | None = None
    raw: str | None = None
    """The record as it stands in the source, or its first part; bytes that are no UTF-8 as `\\xNN`."""
    is_whole: bool = True
    """Whether `raw` is all of it."""

    @classmethod
    def of(cls, error: DataError, raw: bytes | None = None, rejected: str = "record") -> Reject:
        """Return the reject for an error in one record."""
        place = error.place
        text, is_whole = raw_text(raw)
        return cls(
            place.source, place.line, place.byte_offset, place.record, place.path, error.code, error.reason,
            rejected, place.column, text, is_whole,
        )  # fmt: skip

    def place(self) -> Place:
        """Return where it stood."""
        return Place(self.source, self.line, self.byte_offset, self.record, self.path, self.column)

    def to_json(self) -> str:
        """Return the reject as one line of JSON."""
        return json.dumps(plain_data(self), ensure_ascii=False)
