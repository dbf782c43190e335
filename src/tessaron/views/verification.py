"""What rebuild and verify have to say, as lines."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Protocol

from tessaron.views.terminal import count

_LOST_SHOWN = 5


class _Rebuilt(Protocol):
    @property
    def target(self) -> str: ...
    @property
    def form(self) -> str: ...
    @property
    def records(self) -> int: ...
    @property
    def documents(self) -> int: ...
    @property
    def lost(self) -> Mapping[str, str]: ...


def rebuilt_view(made: _Rebuilt) -> list[str]:
    """Return what a rebuild has made, in lines."""
    what = count(made.records, "record")
    if made.form == "documents":
        what += f" in {count(made.documents, 'document')}"
    shown = {"lines": ", one a line", "array": " in one array", "files": ", a file for each"}.get(made.form, "")
    lines = [f"{what}{shown}: {made.target}"]
    if made.lost:
        names = list(made.lost)[:_LOST_SHOWN]
        more = f" and {len(made.lost) - len(names)} more" if len(made.lost) > len(names) else ""
        listed = ", ".join(f"{name} ({made.lost[name]})" for name in names)
        lines.append(f"without a place of their own in the documents: {listed}{more}")
    return lines
