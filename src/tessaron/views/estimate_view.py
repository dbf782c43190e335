"""What a run would take, in a few lines and a table."""

from __future__ import annotations

from typing import TYPE_CHECKING

from tessaron.views.terminal import count, grid

if TYPE_CHECKING:
    from rich.table import Table

    from tessaron.forecast.cost_model import RunCost
    from tessaron.forecast.estimating import Estimate

_UNITS = ((1e15, "PB"), (1e12, "TB"), (1e9, "GB"), (1e6, "MB"), (1e3, "kB"))
_MINUTE, _HOUR, _DAY = 60, 3_600, 86_400


def estimate_view(estimate: Estimate) -> list[Table | str]:
    """Return what there is, what was measured, and what runs take on so many workers."""
    sample = estimate.sample
    unpacked = estimate.unpacked_bytes > 1.1 * estimate.bytes
    packed = f", about {shown_bytes(estimate.unpacked_bytes)} unpacked" if unpacked else ""
    facts = (
        ("source", f"{count(estimate.files, 'file')}, {shown_bytes(estimate.bytes)}{packed}"),
        ("records", f"about {_rounded(estimate.records)}"),
        ("tables", f"{estimate.tables:,}, about {_rounded(estimate.rows)} rows"),
        ("output", f"about {shown_bytes(estimate.output_bytes)}"),
        ("sample", f"{shown_bytes(sample.bytes)} of {count(estimate.sample_files, 'file')}"),
    )
    rows = [
        (
            _place(cost),
            f"{cost.workers:,}",
            shown_seconds(cost.seconds),
            shown_bytes(cost.peak_bytes),
            cost.bottleneck,
        )
        for cost in estimate.costs
    ]
    headings = ("on", "workers", "time", "memory each", "what it waits for")
    table = grid(headings, rows, numeric=("workers", "time", "memory each"))
    return [*(f"{name:<9}{text}" for name, text in facts), "", table]


def _place(cost: RunCost) -> str:
    return "a cluster" if cost.is_cluster else "this machine"


def shown_bytes(number: float) -> str:
    """Return bytes in the unit that fits, with two digits that tell."""
    for least, unit in _UNITS:
        if number >= least:
            return f"{_two_digits(number / least)} {unit}"
    return f"{number:,.0f} bytes"


def shown_seconds(seconds: float) -> str:
    """Return a time in the unit that fits."""
    for least, name in ((2 * _DAY, "days"), (2 * _HOUR, "hours"), (2 * _MINUTE, "minutes")):
        unit = {"days": _DAY, "hours": _HOUR, "minutes": _MINUTE}[name]
        if seconds >= least:
            return f"{_two_digits(seconds / unit)} {name}"
    return f"{_two_digits(seconds)} seconds"


def _two_digits(number: float) -> str:
    return f"{number:,.0f}" if number >= 10 else f"{number:.1f}"


def _rounded(number: int) -> str:
    """Return a number with the three digits that an estimate tells."""
    step = 10 ** max(len(str(number)) - 3, 0)
    return f"{round(number / step) * step:,}"
