"""What a kernel found wrong, or odd, in the records of a chunk."""

from __future__ import annotations

from dataclasses import dataclass

from tessaron.core.base.errors import Code
from tessaron.core.base.paths import Path

MOST_RAW_BYTES = 65_536
"""So much of a rejected record is kept with it."""


@dataclass(frozen=True, slots=True)
class Fault:
    """Why a record could not be read.

    Attributes:
        code: A short stable name of the reason.
        byte_offset: Where in the chunk, in bytes from 0.
        reason: Expected, got, what next.
        path: Where in the record, as far as it was read.
        record: The records of the chunk before it, faulty ones included.
        start, stop: Where the record begins and ends in the chunk, in bytes; -1 where that is not known.
        is_end: Whether nothing behind it could be read.
        line, column: The line, and the column in it, from 1, where that is known.
    """

    code: Code
    byte_offset: int
    reason: str
    path: Path = ()
    record: int = 0
    start: int = -1
    stop: int = -1
    is_end: bool = False
    line: int | None = None
    column: int | None = None


@dataclass(frozen=True, slots=True)
class Repeated:
    """A name that stood twice in one object, and the value that gave way to a later one.

    Attributes:
        record: The row of the record in the fragment, from 0.
        path: The path of the member.
        value: The earlier value, as JSON.
    """

    record: int
    path: Path
    value: str
