"""A survey shown: as an outline for terminals, as plain data for programs."""

from __future__ import annotations

import json
from collections.abc import Iterator
from dataclasses import asdict
from typing import Any, Unpack

from tessaron.core.base.errors import UsageError
from tessaron.core.base.parsed_values import Parsed
from tessaron.core.base.shown_forms import Figured
from tessaron.core.base.visible import in_quotes
from tessaron.core.shape.shape_node import ShapeNode
from tessaron.core.survey.noticing import SurveyNote
from tessaron.core.survey.survey_entries import PathEntry, SurveyFacts
from tessaron.engine.run_options import RunOptions
from tessaron.look.surveying import survey_source
from tessaron.sources.resolving import Source


class Survey(Figured):
    """What a survey found. Iterates over the paths; `survey["$.calls[*].status"]` is one of them.

    Attributes:
        entries: The paths, each before those below it, in the usual order of the data.
        notes: What to know before loading.
        records: Records read.
        is_partial: Whether there are more records, which were not read.
        shape: The settled shape.
        sources: Names of what was read.
        records_path: Where the records stand in the documents, as JSONPath.
    """

    def __init__(self, facts: SurveyFacts):
        self.facts = facts
        self.entries: tuple[PathEntry, ...] = facts.entries
        self.notes: tuple[SurveyNote, ...] = facts.notes
        self.records = facts.records
        self.is_partial = facts.is_partial
        self.shape: ShapeNode = facts.shape
        self.sources = facts.sources
        self.records_path = facts.records_path
        self._by_path = {entry.path: entry for entry in facts.entries}

    def __iter__(self) -> Iterator[PathEntry]:
        return iter(self.entries)

    def __len__(self) -> int:
        return len(self.entries)

    def __getitem__(self, path: str) -> PathEntry:
        if path not in self._by_path:
            known = ", ".join(list(self._by_path)[:8])
            raise UsageError(f"no path {in_quotes(path)} in the survey; there are {known}, …")
        return self._by_path[path]

    def __repr__(self) -> str:
        return f"Survey({self.records:,} records, {len(self.entries):,} paths, {len(self.notes):,} notes)"

    def to_arrow(self) -> Any:
        """Return the paths as a `pyarrow.Table`, a row each."""
        import pyarrow as pa

        rows = [_plain(entry) for entry in self.entries]
        for row in rows:
            for name in ("kinds", "frequent", "elements", "example"):
                row[name] = None if row[name] is None else json.dumps(row[name], ensure_ascii=False)
        return pa.Table.from_pylist(rows, schema=_schema())

    def to_json(self, indent: int | None = 1) -> str:
        """Return all of it as JSON: `records`, `paths`, `notes`; see the reference."""
        made = {
            "sources": list(self.sources),
            "records_path": self.records_path,
            **({} if self.facts.taken is None else {"taken": self.facts.taken}),
            "records": self.records,
            "is_partial": self.is_partial,
            "paths": [_plain(entry) for entry in self.entries],
            "notes": [asdict(note) for note in self.notes],
            "structures": [asdict(each) for each in self.facts.structures],
        }
        return json.dumps(made, indent=indent, ensure_ascii=False)


def _plain(entry: PathEntry) -> dict[str, Parsed]:
    made = asdict(entry)
    made["fill_rate"] = round(entry.fill_rate, 6)
    made["frequent"] = [{"value": value, "count": count} for value, count in entry.frequent]
    made["elements"] = (
        None if entry.elements is None else dict(zip(("least", "mean", "most"), entry.elements, strict=True))
    )
    return made


def _schema() -> Any:
    import pyarrow as pa

    types = dict.fromkeys(("depth", "rows", "filled", "distinct"), pa.int64())
    types |= dict.fromkeys(("is_exact", "opens_level"), pa.bool_())
    types["fill_rate"] = pa.float64()
    names = (*PathEntry.__dataclass_fields__, "fill_rate")
    return pa.schema([(name, types.get(name, pa.string())) for name in names])


def survey(source: Source, **options: Unpack[RunOptions]) -> Survey:
    """Return a survey of the records of `source`: every path with what stands there, and notes.

    Args:
        source: As in `shred`.
        **options: `records`, `first`, `dictionaries`, `not_dictionaries`, `workers`, `memory`, `depth_limit`;
            see `Options`.

    Raises:
        SourceError: When a source cannot be read.
        DataError: When it is not JSON.
        UsageError: When an option cannot be right.
    """
    return Survey(survey_source(source, **options))
