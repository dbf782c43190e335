"""What two structures differ in, as a table for people: what breaks most first."""

from __future__ import annotations

from rich.table import Table

from tessaron.repeat.comparing import Comparison
from tessaron.views.terminal import grid

_SHOWN = 40


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
    table = grid([headings[place] for place in kept], [[row[place] for place in kept] for row in rows])
    more = len(comparison.changes) - len(shown)
    told = [f"… and {more:,} more; --json lists all"] * (more > 0)
    return [table, *told, "", total]
