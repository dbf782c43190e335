"""Where a row is from, line by line."""

from __future__ import annotations

from collections.abc import Iterator

from tessaron.core.base.visible import clipped
from tessaron.repeat.tracing import Traced

_LONGEST_RECORD = 2_000


def trace_view(found: Traced) -> list[str]:
    """Return the lines to be shown."""
    return list(_lines(found))


def _lines(found: Traced) -> Iterator[str]:
    values = ", ".join(f"{name} = {clipped(value)}" for name, value in found.row.items())
    yield f"row       {found.table}: {values}"
    yield f"stands at {found.place} in the record of {found.top} {found.top_key}"
    if found.run is not None:
        yield f"run       {found.run}, {found.started.replace('T', ' ').replace('+00:00', ' UTC')}"
    if found.source is None:
        looked = f"{len(found.looked_in):,} sources looked through"
        gone = f", {len(found.missing):,} not there any more: {', '.join(found.missing[:3])}" * bool(
            found.missing
        )
        yield f"source    not found: {looked}{gone}"
        return
    line = "" if found.line is None else f", line {found.line:,}"
    yield f"source    {found.source}, record {found.record:,}{line}"
    if found.text is not None:
        is_long = len(found.text) > _LONGEST_RECORD
        yield f"record    {found.text[:_LONGEST_RECORD]}{'…' if is_long else ''}"
