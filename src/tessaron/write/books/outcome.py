"""What a run did, as it is told at its end."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from tessaron.engine.aside.reject_log import RejectLog
from tessaron.engine.intake import SourceRead
from tessaron.write.books.receipt import ClusterDone, Finding, KeyCheck


@dataclass(frozen=True, slots=True)
class Counted:
    """What was read for a table or a column, and what of it is meant not to be written.

    Attributes:
        read: Elements of the array, or values at the path.
        filtered: Those in rows that a filter took, or whose record was rejected.
        rejected: Values that did not fit.
    """

    read: int
    filtered: int = 0
    rejected: int = 0


@dataclass(frozen=True, slots=True)
class Outcome:
    """What a run did; see `Receipt` for what each part means."""

    sources: tuple[SourceRead, ...]
    records: int
    rejected: int
    repeated_names: int
    notes: tuple[tuple[str, str], ...]
    log: RejectLog
    is_partial: bool
    candidate_keys: tuple[str, ...] = ()
    key_check: KeyCheck | None = None
    key_checks: tuple[KeyCheck, ...] = ()
    filtered: Mapping[str, int] = field(default_factory=dict)
    left_out: Mapping[str, int] = field(default_factory=dict)
    rejected_values: int = 0
    findings: tuple[Finding, ...] = ()
    unmet: tuple[str, ...] = ()
    counted: Mapping[str, Counted] = field(default_factory=dict)
    is_whole: bool = False
    top: str = ""
    """The table of the records."""
    unread: int = 0
    """Records that could not be read."""
    cluster: ClusterDone | None = None
    """What a cluster did for the run."""
