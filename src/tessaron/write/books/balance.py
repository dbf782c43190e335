"""What was counted at different places of a run, and whether it adds up.

What was read is counted on the fragments as they come from the kernel; what was written is counted where the
rows go into files. Nothing but what is listed may lie between.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from tessaron.core.base.parsed_values import Parsed


@dataclass(frozen=True, slots=True)
class Balance:
    """One sum: read = written + filtered + rejected + left out.

    Attributes:
        what: `records`, `rows` (elements of an array) or `values` (of a scalar path).
        name: The table, or the column as `table.column`; empty for all records.
        read: Counted where the source was read.
        written: Counted where the rows were written.
        filtered: In rows that a filter took, or whose record was rejected.
        rejected: What did not fit, and is null or left out.
    """

    what: str
    name: str
    read: int
    written: int
    filtered: int = 0
    rejected: int = 0

    @property
    def gap(self) -> int:
        """How many are missing; negative if there are too many; 0 if the sum is right."""
        return self.read - self.written - self.filtered - self.rejected

    def text(self) -> str:
        """Return the sum in words."""
        parts = [f"{self.written:,} written"]
        parts += [f"{self.filtered:,} filtered"] * bool(self.filtered)
        parts += [f"{self.rejected:,} rejected"] * bool(self.rejected)
        name = f" of {self.name}" if self.name else ""
        sign = "=" if not self.gap else "≠"
        return f"{self.what}{name}: {self.read:,} read {sign} {' + '.join(parts)}"


def balances_of(receipt: Mapping[str, Parsed]) -> list[Balance]:
    """Return the sums of a receipt that was read from its file."""
    return [Balance(**each) for each in receipt.get("balance", ())]


def gaps(balances: Iterable[Balance]) -> list[Balance]:
    """Return the sums that are not right."""
    return [each for each in balances if each.gap]
