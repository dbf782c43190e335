"""The first rows of each table, kept while they go by."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from tessaron.core.base.arrays import ArrowRows

_KEPT = 8


@dataclass(slots=True)
class FirstRows:
    """Keeps the first rows that it is shown.

    Attributes:
        rows: They, by table; of a chunk that has fewer than are kept, those only.
    """

    rows: dict[str, ArrowRows] = field(default_factory=dict)

    def take(self, batches: Mapping[str, ArrowRows]) -> None:
        """Look at the rows of a chunk, a record batch for each table."""
        for name, batch in batches.items():
            if batch.num_rows and (
                name not in self.rows or self.rows[name].num_rows < batch.num_rows < _KEPT
            ):
                self.rows[name] = batch.slice(0, _KEPT)
