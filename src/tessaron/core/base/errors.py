"""The tree of errors. Wrong use, bad data, and places that cannot be read or written are kept apart."""

from __future__ import annotations

from dataclasses import dataclass


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

    def __init__(self, reason: str, place: Place, code: str = "invalid"):
        super().__init__(reason, place, code)
        self.reason = reason
        self.place = place
        self.code = code

    def __str__(self) -> str:
        return f"{self.place}: {self.reason}"
