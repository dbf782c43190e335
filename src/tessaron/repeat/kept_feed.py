"""The records that a target is kept up with: what runs have made of them so far."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING, Any

from tessaron.core.base.errors import UsageError
from tessaron.sinks.database.load_target import OpenTarget, PastRuns
from tessaron.sinks.database.run_records import RunRecord

if TYPE_CHECKING:
    from tessaron.decide.layout_file import Layout

_GIVEN, _KNOWN, _IS_BASE = "given_layout", "left_out_known", "left_out_is_known"
"""What the receipt of a run has of these: the layout that was given, where it used another; the places for
whose values no column is expected; and whether what it has left out itself belongs to them."""


@dataclass(frozen=True)
class KeptFeed:
    """What the target has of the records.

    Attributes:
        top: Their table; empty where no run has loaded any.
        runs: The runs.
        given: The layout that is given now.
    """

    top: str
    runs: PastRuns
    given: Layout | None

    @classmethod
    def of(cls, target: OpenTarget, name: str | None, given: Layout | None) -> KeptFeed:
        """Return what is there of the records with a name, or of the only ones.

        Raises:
            UsageError: When there are several, and no name.
        """
        tops = target.past_runs.tops()
        if name is None and len(tops) > 1:
            raise UsageError(f"{target.name}: say which of these to keep up: --name {', '.join(tops)}")
        top = name if name is not None else next(iter(tops), "")
        return cls(top if top in tops else "", target.past_runs, given)

    @cached_property
    def last(self) -> RunRecord | None:
        """The last run that has loaded them; None where none has."""
        return self.runs.last(self.top) if self.top else None

    @cached_property
    def is_new(self) -> bool:
        """Whether there is nothing to go on with: no run, or another layout than runs were given so far."""
        return self.last is None or (
            self.given is not None and self.given.text != self.last.receipt.get(_GIVEN, "")
        )

    def layout(self) -> Layout | None:
        """Return the layout to go on with: that of the last run, unless another one is given now."""
        if self.last is None or self.is_new:
            return self.given
        from tessaron.decide.layout_file import Layout

        return Layout(self.last.layout, f"layout of run {self.last.run}")

    def left_out(self) -> frozenset[str]:
        """Return the places for whose values no column is expected: what new layouts have left out."""
        receipt: Mapping[str, Any] = {} if self.last is None else self.last.receipt
        own = [each["path"] for each in receipt.get("left_out", ())] if receipt.get(_IS_BASE) else []
        return frozenset(map(str, (*receipt.get(_KNOWN, ()), *own)))

    def about(self) -> dict[str, Any]:
        """Return what the receipt of the next run is to tell for those behind it."""
        given = "" if self.last is None else self.last.receipt.get(_GIVEN, "")
        text = given if self.given is None else self.given.text
        return {_GIVEN: text, _KNOWN: sorted(self.left_out()), _IS_BASE: self.is_new}
