"""The tree of errors. Wrong use, bad data, and places that cannot be read or written are kept apart."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum


class Code(StrEnum):
    """Why something was rejected or could not be read: short names, which never change."""

    INVALID = "invalid"
    EMPTY = "empty"
    SYNTAX = "syntax"
    TRUNCATED = "truncated"
    ENCODING = "encoding"
    ESCAPE = "escape"
    CONTROL = "control"
    NOT_A_NUMBER = "not_a_number"
    COMPRESSION = "compression"
    DEPTH = "depth"
    LIMIT = "limit"
    TOO_LONG = "too_long"
    REPEATED_NAME = "repeated_name"
    ENTITY = "entity"
    ROOT = "root"
    SCHEMA = "schema"
    NAMESPACE = "namespace"
    MISFIT = "misfit"
    REQUIRED = "required"
    ALLOWED = "allowed"
    RANGE = "range"
    PATTERN = "pattern"
    UNIQUE = "unique"
    ONCE = "once"
    DIVISION_BY_ZERO = "division_by_zero"
    OVERFLOW = "overflow"
    NOT_CONVERTIBLE = "not_convertible"
    EMBEDDED = "embedded"
    ROW_TOO_LONG = "row_too_long"
    ROW_TOO_SHORT = "row_too_short"
    UNEQUAL_LENGTHS = "unequal_lengths"
    NAME_REPEATED = "name_repeated"
    NAME_TAKEN = "name_taken"
    PIECE_REPEATED = "piece_repeated"
    PIECE_NOT_OBJECT = "piece_not_object"
    FOLDED_AWAY = "folded_away"
    BEYOND = "beyond"
    NO_FLAG = "no_flag"
    NO_COLUMN = "no_column"
    NO_TEXT = "no_text"
    TOO_MANY_REJECTS = "too_many_rejects"
    # Of tables and lines that are to become documents again.
    CONTRADICTION = "contradiction"
    FOREIGN_KEY = "foreign_key"
    LINES = "lines"
    NO_KEY = "no_key"
    ORDER = "order"
    PLACE = "place"
    REST = "rest"
    TYPE = "type"

    def __repr__(self) -> str:
        return repr(self.value)


class TessaronError(Exception):
    """The base of every error that Tessaron raises on purpose."""


class UsageError(TessaronError, ValueError):
    """An argument, option or name that cannot be right, whatever the data is."""


class SourceError(TessaronError, OSError):
    """A source that is not there or cannot be read."""


class TargetError(TessaronError, OSError):
    """A target that cannot be written, or must not be overwritten."""


@dataclass(frozen=True, slots=True)
class Place:
    """Where in the input something stands. Unknown parts are None.

    Attributes:
        source: Name of the file, or `<stdin>`, `<bytes>`, `<objects>`.
        line: Line number in that source, from 1.
        byte_offset: Offset in bytes from the start of that source, from 0.
        record: Number of the record in that source, from 1.
        path: Where in the record, as JSONPath (RFC 9535) or XPath 1.0.
        column: Column in the line, from 1.
    """

    source: str
    line: int | None = None
    byte_offset: int | None = None
    record: int | None = None
    path: str | None = None
    column: int | None = None

    def __str__(self) -> str:
        parts = [
            f"{label} {value}"
            for label, value in (
                ("line", self.line),
                ("column", self.column),
                ("byte", self.byte_offset),
                ("record", self.record),
            )
            if value is not None
        ]
        if self.path is not None:
            parts.append(self.path)
        return f"{self.source}: {', '.join(parts)}" if parts else self.source


class DataError(TessaronError, ValueError):
    """Input that is not what it has to be.

    Attributes:
        reason: What is wrong: expected, got, and what to do next.
        place: Where, as far as known.
        code: A short stable name of the reason, for programs.
    """

    def __init__(self, reason: str, place: Place, code: Code = Code.INVALID):
        super().__init__(reason, place, code)
        self.reason = reason
        self.place = place
        self.code = code

    def __str__(self) -> str:
        return f"{self.place}: {self.reason}"
