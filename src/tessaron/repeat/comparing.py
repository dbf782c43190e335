"""Comparing two structures, before new data meets the tables that are there."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass
from typing import Any

from tessaron.core.base.shown_forms import Shown
from tessaron.core.changes.judged_changes import Change, Judgement, changes_between
from tessaron.core.changes.place_facts import Structure
from tessaron.decide.layout_file import Layout
from tessaron.engine.run_progress import Progress
from tessaron.repeat.structure_sources import structure_of
from tessaron.sinks.receipt_text import plain_data, spread_json
from tessaron.sources.resolving import Source


@dataclass(frozen=True, slots=True)
class Comparison(Shown):
    """What was found.

    Attributes:
        old: What is compared.
        new: What it is compared with.
        old_kind, new_kind: Whether these are a `layout`, `survey`, `export`, `database` or `source`.
        changes: The changes, those that break most first.
    """

    old: str
    new: str
    old_kind: str
    new_kind: str
    changes: tuple[Change, ...]

    def counts(self) -> dict[str, int]:
        """Return how many changes are judged how: `breaks`, `widens`, `harmless`."""
        found = Counter(change.judgement for change in self.changes)
        return {each.name.lower(): found[each] for each in sorted(Judgement, reverse=True)}

    def passes(self, gate: str) -> bool:
        """Say whether no change is as bad as `breaks` or `widens`, whichever is named, or worse."""
        return all(change.judgement < Judgement[gate.upper()] for change in self.changes)

    def to_json(self) -> str:
        """Return all of it as JSON."""
        changes = [{**plain_data(each), "judgement": each.judgement.name.lower()} for each in self.changes]
        return spread_json({**plain_data(self), "changes": changes, "counts": self.counts()}) + "\n"


def compare(
    old: Source | Layout, new: Source | Layout, *, progress: Progress | None = None, **options: Any
) -> Comparison:
    """Return in what one structure differs from another, each change judged for tables made by the first.

    Args:
        old: A layout or its file, the file of a survey (`survey --json`), the folder of an export, the URL of
            a database that runs have loaded, or any source.
        new: The same. A source is seen through the layout of `old`, where that has one.
        progress: Is told how far reading is.
        **options: For sources, as in `survey`: records, first, workers and the like; `name` says which
            records of a database are meant.

    Raises:
        SourceError: When something is not there, or cannot be read.
        DataError: When a source is neither JSON nor XML.
    """
    before, layout = structure_of(old, progress, **options)
    after, _ = structure_of(new, progress, seen_as=layout, **({} if layout is not None else options))
    return _compared(before, after)


def _compared(before: Structure, after: Structure) -> Comparison:
    found = changes_between(before, after)
    return Comparison(before.name, after.name, before.kind, after.kind, tuple(found))
