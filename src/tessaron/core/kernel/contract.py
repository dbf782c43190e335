"""What every kernel is: a pure function from bytes of whole records to a fragment."""

from __future__ import annotations

from enum import Enum
from typing import Protocol

from tessaron.core.fragment import Fragment


class Separator(Enum):
    """What stands between the records of a chunk, white space aside."""

    LINE = "line"
    """Every record is on a line of its own (JSON Lines)."""
    NOTHING = "nothing"
    """JSON texts one after another."""
    COMMA = "comma"
    """Elements of one array; a chunk that is not the first begins with the comma before its first element."""


class Kernel(Protocol):
    """`(bytes of whole records, options) -> Fragment`: no I/O, no global state, the same for all splits."""

    def __call__(self, data: bytes, separator: Separator, continues: bool = False) -> Fragment:
        """Return the fragment of `data`.

        Args:
            data: UTF-8 text of whole records.
            separator: What stands between them.
            continues: Whether `data` goes on where another chunk ended (only told apart for `COMMA`).

        Returns:
            The columns of all records that could be read, and the faults of the others, in order. After a
            fault the kernel goes on at the next line for `LINE`, else it stops there.
        """
        ...
