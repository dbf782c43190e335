"""What a run rejects: records and values with place and reason, all kept in a file, up to a limit."""

from __future__ import annotations

import json
import re
import shutil
import tempfile
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass, replace
from pathlib import Path
from types import TracebackType
from typing import Any

from tessaron.core.base.errors import Code, DataError, Place, TargetError
from tessaron.core.base.faults import MOST_RAW_BYTES
from tessaron.sinks.receipt_text import plain_data

KEPT = 1_000
"""So many rejects are kept in memory; all are in the file."""
_IN_MEMORY = 1024 * 1024
_QUOTED = re.compile(r",? (found|got) .*", re.DOTALL)
_LEAST_FOR_SHARE = 1_000
"""A share is looked at from so many records on, and at the end."""


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


class RejectLog:
    """Takes in the rejects of a run; as a context it keeps all of them in a temporary file.

    Args:
        stop_after: So many rejects end the run; None for no limit.
        stop_at_share: A larger share of records rejected ends the run, 0 to 1; None for no limit.
        keeps_records: Whether the records themselves are kept, as they stand in the source. Where a layout
            masks values they are not, unless they are asked for; nor is what a message quotes of them.

    Attributes:
        first: The first rejects.
        reasons: How many there are of each code.
        records: Records rejected.
        left_out: Records that are not kept, as a layout masks values.
    """

    def __init__(
        self,
        stop_after: int | None = None,
        stop_at_share: float | None = None,
        keeps_records: bool = True,
    ):
        self.keeps_records = keeps_records
        self.left_out = 0
        self._stop_after, self._stop_at_share = stop_after, stop_at_share
        self._file: Any = None
        self.first: list[Reject] = []
        self.reasons: Counter[str] = Counter()
        self.records = 0

    def __enter__(self) -> RejectLog:
        self._file = tempfile.SpooledTemporaryFile(max_size=_IN_MEMORY)
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._file.close()

    def add(self, reject: Reject) -> None:
        """Take in a reject.

        Raises:
            DataError: When there are more now than were allowed.
        """
        if not self.keeps_records and reject.raw is not None:
            self.left_out += 1
            reject = replace(reject, raw=None, is_whole=False)
        self.reasons[reject.code] += 1
        self.records += reject.rejected != "value"
        if len(self.first) < KEPT:
            self.first.append(reject)
        if self._file is not None:
            self._file.write(reject.to_json().encode("utf-8", "backslashreplace") + b"\n")
        count = sum(self.reasons.values())
        if self._stop_after is not None and count > self._stop_after:
            self._stop(f"more than {self._stop_after:,} rejects", reject)

    def add_fault(self, reject: Reject) -> None:
        """Take in a record that could not be read; its message may quote of it what stands at the fault."""
        if not self.keeps_records:
            reject = replace(reject, message=_QUOTED.sub("", reject.message))
        self.add(reject)

    def check_share(self, records: int, is_end: bool = False) -> None:
        """Check the share of records rejected.

        Args:
            records: Records read so far, those rejected included.
            is_end: Whether there are no more.

        Raises:
            DataError: When it is larger than was allowed.
        """
        if self._stop_at_share is None or not self.records or not (is_end or records >= _LEAST_FOR_SHARE):
            return
        if self.records > self._stop_at_share * records:
            allowed = f"{100 * self._stop_at_share:.4g}%"
            what = f"{self.records:,} of {records:,} records rejected, more than {allowed}"
            self._stop(what, self.first[-1])

    def _stop(self, what: str, reject: Reject) -> None:
        reasons = ", ".join(f"{count:,} {code}" for code, count in self.reasons.most_common())
        raise DataError(
            f"{what} ({reasons}); the last: {reject.message}", reject.place(), Code.TOO_MANY_REJECTS
        )

    def every(self) -> Iterator[dict[str, Any]]:
        """Yield all rejects, as plain data."""
        self._file.seek(0)
        for line in self._file:
            yield json.loads(line)

    def write(self, path: Path) -> None:
        """Write all rejects into a file, one a line.

        Raises:
            TargetError: When it cannot be written.
        """
        self._file.seek(0)
        try:
            with open(path, "wb") as file:
                shutil.copyfileobj(self._file, file)
        except OSError as error:
            raise TargetError(f"the target cannot be written: {error.strerror}") from error
