"""What is wrong in a layout: all of it at once, each with its line, its key and what was expected."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from tessaron.core.base.errors import UsageError
from tessaron.core.layout.toml_lines import Keys


@dataclass(frozen=True, slots=True)
class LayoutFault:
    """One thing that is wrong.

    Attributes:
        keys: The names that lead to the key.
        message: What was expected, what is there, the nearest right name.
        line: Its line in the file, from 1; None where it is not known.
    """

    keys: Keys
    message: str
    line: int | None = None

    def __str__(self) -> str:
        where = "" if self.line is None else f"line {self.line}: "
        return f"{where}{shown_keys(self.keys)}: {self.message}" if self.keys else f"{where}{self.message}"


class LayoutError(UsageError):
    """A layout that cannot be right.

    Attributes:
        faults: All that is wrong, in the order of the lines.
        source: The file, or what stands for it.
    """

    def __init__(self, faults: Iterable[LayoutFault], source: str = "layout"):
        ordered = sorted(faults, key=lambda fault: fault.line or 0)
        super().__init__(ordered, source)
        self.faults = tuple(ordered)
        self.source = source

    def __str__(self) -> str:
        if len(self.faults) == 1:
            return f"{self.source}: {self.faults[0]}"
        lines = "".join(f"\n  {fault}" for fault in self.faults)
        return f"{self.source}: {len(self.faults)} mistakes{lines}"


def shown_keys(keys: Keys) -> str:
    """Return the names that lead to a key as TOML would: `tables.calls.columns.eta`."""
    return ".".join(key if key.replace("_", "").replace("-", "").isalnum() else f'"{key}"' for key in keys)
