"""How a log is written: a line of JSON for programs, or a line for people."""

from __future__ import annotations

import json
import logging
import time
from datetime import UTC, datetime


class JsonLines(logging.Formatter):
    """Writes each record of a log as a line of JSON: time, level, event, and what else it tells."""

    def format(self, record: logging.LogRecord) -> str:
        """Return the line."""
        at = datetime.fromtimestamp(record.created, UTC).isoformat(timespec="milliseconds")
        told = {
            "at": at,
            "level": record.levelname.lower(),
            "event": record.getMessage(),
            **told_beside(record),
        }
        return json.dumps(told, ensure_ascii=False, default=str)


class PlainLines(logging.Formatter):
    """Writes each record of a log as a line for people."""

    def format(self, record: logging.LogRecord) -> str:
        """Return the line."""
        at = time.strftime("%H:%M:%S", time.localtime(record.created))
        beside = "; ".join(f"{name} {_plain(value)}" for name, value in told_beside(record).items())
        return f"{at} {record.getMessage()}{': ' if beside else ''}{beside}"


_USUAL = frozenset(logging.makeLogRecord({}).__dict__) | {"message", "asctime", "taskName"}


def told_beside(record: logging.LogRecord) -> dict[str, object]:
    """Return what a record of a log tells beside its message."""
    return {name: value for name, value in record.__dict__.items() if name not in _USUAL}


def _plain(value: object) -> str:
    if isinstance(value, (list, tuple)):
        return ", ".join(map(str, value[:3])) + (f" and {len(value) - 3:,} more" if len(value) > 3 else "")
    return f"{value:,}" if isinstance(value, (int, float)) else str(value)
