"""What keeping a target up ends with: which sources were new, what was loaded, what has changed."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from rich.table import Table

from tessaron.repeat.keeping import KeptUp

if TYPE_CHECKING:
    from tessaron.repeat.growing_export import Grown
from tessaron.views.terminal import count as count_of
from tessaron.views.terminal import grid

_SHOWN, _TABLES = 10, 40


def kept_view(kept: KeptUp) -> list[Table | str]:
    """Return the parts to be shown on standard output."""
    found: list[Table | str] = []
    for loaded in kept.loads:
        # Where nothing was new nothing of a load is needed.
        from tessaron.views.load_view import load_view

        found += [*load_view(loaded), ""]
    return [*found, _sources(kept)]


def grown_view(grown: Grown) -> list[Table | str]:
    """Return the parts to be shown of a folder that has grown."""
    found: list[Table | str] = []
    if grown.receipt is not None and grown.run:
        every = {each["name"]: each["rows"] for each in grown.receipt["tables"]}
        rows = [
            (name, f"{count:,}", f"{every[name]:,}") for name, count in list(grown.rows.items())[:_TABLES]
        ]
        found = [grid(("table", "added", "rows"), rows, numeric=("added", "rows"))]
        found += list(_more(len(grown.rows), _TABLES))
        into = f"{count_of(grown.records, 'record')} into {grown.receipt['target']}"
        seconds = sum(run["seconds"] for run in grown.runs)
        numbers = ", ".join(str(run["run"]) for run in grown.runs[:_SHOWN])
        more = ", …" if len(grown.runs) > _SHOWN else ""
        which = f"runs {numbers}{more}" if len(grown.runs) > 1 else f"run {numbers}"
        found += ["", f"{into}, {seconds:.2f} seconds; {which}", ""]
    return [*found, _sources(grown.kept)]


def kept_notes(kept: KeptUp) -> list[str]:
    """Return what is to be known besides, a line each."""
    return list(_notes(kept))


def _sources(kept: KeptUp) -> str:
    parts = [f"{kept.new:,} loaded" if kept.new else "nothing new", f"{kept.known:,} known"]
    parts += [f"{kept.same:,} with the bytes of another"] * bool(kept.same)
    parts += [f"{len(kept.changed):,} changed since, and left"] * bool(kept.changed)
    parts += [f"{len(kept.put_aside):,} put aside"] * bool(kept.put_aside)
    parts += [f"{kept.aside:,} put aside before"] * bool(kept.aside)
    parts += [f"{kept.waiting:,} left to the next run"] * bool(kept.waiting)
    return f"sources: {', '.join(parts)}"


def _notes(kept: KeptUp) -> Iterator[str]:
    for name, reason in list(kept.put_aside.items())[:_SHOWN]:
        yield f"put aside: {name}: {reason.removeprefix(f'{name}: ')}"
    yield from _more(len(kept.put_aside))
    for name in kept.changed[:_SHOWN]:
        yield f"changed since it was loaded: {name}; --changed reload merges it"
    yield from _more(len(kept.changed))
    for name, other in list(kept.same_as.items())[:_SHOWN]:
        yield f"not loaded: {name} has the bytes of {other}"
    yield from _more(len(kept.same_as))
    if kept.gone:
        names = ", ".join(kept.gone_first)
        shown = names + (", …" if kept.gone > len(kept.gone_first) else "")
        yield f"no longer there: {count_of(kept.gone, 'source')} loaded before ({shown})"
    for change in kept.changes[:_SHOWN]:
        yield f"structure: {change}"
    yield from _more(len(kept.changes))
    if kept.layout_file is not None:
        yield f"the layout has grown: {kept.layout_file}"


def _more(number: int, shown: int = _SHOWN) -> Iterator[str]:
    if number > shown:
        yield f"… and {number - shown:,} more"
