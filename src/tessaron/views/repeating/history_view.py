"""What runs have done, as a table for people: the last one first."""

from __future__ import annotations

from collections.abc import Sequence

from rich.table import Table

from tessaron.repeat.run_history import History, PastRun
from tessaron.views.palette import Meaning
from tessaron.views.terminal import count, grid

_SOURCES_NAMED, _CHANGES_SHOWN = 2, 5


def history_view(history: History, most: int) -> list[Table | str]:
    """Return the parts to be shown: the last runs, and what has changed in each."""
    shown = history.runs[:most]
    headings = ["run", "when", "mode", "into", "records", "rejected"]
    headings += ["values", "new", "changed", "seconds", "sources"]
    useless = [] if any(each.merged for each in shown) else ["new", "changed"]
    useless += [] if any(each.rejected_values for each in shown) else ["values"]
    headings = [each for each in headings if each not in useless]
    rows = [[_cells(each)[name] for name in headings] for each in shown]
    numeric = ("run", "records", "rejected", "values", "new", "changed", "seconds")
    more = len(history.runs) - len(shown)
    told = [f"… and {count(more, 'earlier run')}; --last N shows more"] * (more > 0)
    changes = [line for each in shown for line in _changes(each)]
    return [grid(headings, rows, numeric, _meaning), *told, *([""] if changes else []), *changes]


def _meaning(heading: str, cell: str) -> Meaning | None:
    return "trouble" if heading in ("rejected", "values") and cell not in ("", "0") else None


def _cells(run: PastRun) -> dict[str, str]:
    merged = run.merged
    return {
        "run": f"{run.run:,}", "when": run.started.replace("T", " ").replace("+00:00", " UTC"),
        "mode": run.mode, "into": run.top, "records": f"{run.records:,}", "rejected": f"{run.rejected:,}",
        "values": f"{run.rejected_values:,}",
        "new": f"{merged['new']:,}" if merged else "", "changed": f"{merged['changed']:,}" if merged else "",
        "seconds": f"{run.seconds:.1f}", "sources": _named(run.sources),
    }  # fmt: skip


def _named(sources: Sequence[str]) -> str:
    more = len(sources) - _SOURCES_NAMED
    return ", ".join(sources[:_SOURCES_NAMED]) + (f" and {more:,} more" if more > 0 else "")


def _changes(run: PastRun) -> list[str]:
    lines = [f"run {run.run}: {change}" for change in run.changes[:_CHANGES_SHOWN]]
    more = len(run.changes) - _CHANGES_SHOWN
    return [*lines, *([f"run {run.run}: and {more:,} more changes"] if more > 0 else [])]
