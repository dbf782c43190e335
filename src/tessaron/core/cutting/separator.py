"""What stands between the records of a chunk."""

from __future__ import annotations

from enum import Enum


class Separator(Enum):
    """What stands between the records of a chunk, white space aside."""

    LINE = "line"
    """Every record is on a line of its own (JSON Lines)."""
    NOTHING = "nothing"
    """JSON texts one after another."""
    COMMA = "comma"
    """Elements of one array; a chunk that is not the first begins with the comma before its first element."""
