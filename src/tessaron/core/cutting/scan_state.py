"""Where a scan for the structure of JSON stands between two blocks."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(slots=True)
class ScanState:
    """Where a scan stands between two blocks: inside a text, behind a backslash there, how deep."""

    in_text: bool = False
    escaping: bool = False
    depth: int = 0
