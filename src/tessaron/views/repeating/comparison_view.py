"""What two structures differ in, as a table for people: what breaks most first."""

from __future__ import annotations

from rich.table import Table

from tessaron.repeat.comparing import Comparison
from tessaron.views.palette import Meaning
from tessaron.views.terminal import grid

_SHOWN = 40
_MEANINGS: dict[str, Meaning] = {"breaks": "trouble", "widens": "warning"}


def comparison_view(comparison: Comparison, most: int = _SHOWN) -> list[Table | str]:
    """Return the parts to be shown."""
    counts = comparison.counts()
    total = ", ".join(f"{name}: {number:,}" for name, number in counts.items() if number)
    if not comparison.changes:
        return ["no change: what comes fits what is there"]
    shown = comparison.changes[:most]
    rows = [
        (change.judgement.name.lower(), change.path, change.text, change.column, change.example)
        for change in shown
    ]
    headings = ["", "path", "what has changed", "column", "example"]
    kept = [place for place in range(5) if place == 0 or any(row[place] for row in rows)]
    told = [headings[place] for place in kept]
    table = grid(told, [[row[place] for place in kept] for row in rows], meaning=_meaning)
    more = len(comparison.changes) - len(shown)
    rest = [f"… and {more:,} more; --json lists all"] * (more > 0)
    return [table, *rest, "", total]


def _meaning(heading: str, cell: str) -> Meaning | None:
    return _MEANINGS.get(cell) if not heading else None
