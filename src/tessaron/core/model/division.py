"""What of the rows of a feed stands in tables of its own: parts of rows, and what several places share."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from tessaron.core.model.parting import RowPart
from tessaron.core.model.sharing import SharedStructure


@dataclass(frozen=True, slots=True)
class Division:
    """How the levels of a settled shape are divided into tables.

    Attributes:
        parts: What is taken off the rows of its level.
        shared: The structures that have one table for all their places.
    """

    parts: Sequence[RowPart] = ()
    shared: Sequence[SharedStructure] = ()


UNDIVIDED = Division()
"""Every level is one table."""
