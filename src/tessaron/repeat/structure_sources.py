"""Structures of anything that has one: layouts, surveys that were kept, exports, databases, sources."""

from __future__ import annotations

import json
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from tessaron.core.base.errors import SourceError, UsageError
from tessaron.core.base.json_text import json_text
from tessaron.core.base.parsed_values import Parsed
from tessaron.core.base.paths import Each, Origin, format_path
from tessaron.core.changes.place_facts import PlaceFacts, Structure
from tessaron.core.layout.table_set import written_name
from tessaron.core.plan.plan import ColumnPlan
from tessaron.core.shape.shape_node import ShapeNode
from tessaron.core.survey.survey_entries import PathEntry, SurveyFacts, survey_entries
from tessaron.decide.layout_file import Layout
from tessaron.engine.run_progress import Progress
from tessaron.look.surveying import survey_source
from tessaron.repeat.opened_targets import is_folder, opened_target
from tessaron.sinks.target_folder import LAYOUT_FILE
from tessaron.sources.resolving import Source
from tessaron.write.exported_rows import is_export

_MOST_VALUES = 50
"""So many different values of a place are known one by one."""
_SURVEY_KEYS = {"records_path", "paths", "records"}


def structure_of(
    thing: Source | Layout, progress: Progress | None = None, seen_as: Layout | None = None, **options: Any
) -> tuple[Structure, Layout | None]:
    """Return the structure of something, and its layout if it has one.

    Args:
        thing: A layout or its file; the file of a survey (`survey --json`); the folder of an export; the URL
            of a database or the catalog that runs have loaded; or any source.
        progress: Is told how far reading a source is.
        seen_as: A layout through which a source is seen.
        **options: As in `survey`, for sources.

    Raises:
        SourceError: When it is not there, or cannot be read.
        DataError: When a source is neither JSON nor XML.
    """
    layout, kind = _layout_of(thing, options)
    if layout is not None:
        return _of_layout(
            layout, str(thing) if not isinstance(thing, Layout) else layout.source, kind
        ), layout
    kept = _kept_survey(thing)
    if kept is not None:
        return _of_survey(str(thing), kept), None
    options.pop("name", None)
    facts = survey_source(thing, progress, layout=seen_as, **options)  # type: ignore[arg-type]
    return _of_source(facts), None


def _layout_of(thing: Any, options: Mapping[str, Any]) -> tuple[Layout | None, str]:
    if isinstance(thing, Layout):
        return thing, "layout"
    if not isinstance(thing, (str, Path)):
        return None, ""
    text = str(thing)
    if text.lower().endswith(".layout.toml") or (text.lower().endswith(".toml") and ".feed." not in text):
        return Layout.read(text), "layout"
    if is_export(text):
        return Layout.read(Path(text) / LAYOUT_FILE), "export"
    if not is_folder(text) and not text.startswith(("http://", "https://", "s3://", "file://")):
        return _last_layout(text, options.get("name")), "database"
    return None, ""


def _last_layout(url: str, name: str | None) -> Layout:
    with opened_target(url) as opened, opened.told():
        tops = opened.past_runs.tops()
        if name is None and len(tops) > 1:
            raise UsageError(f"{opened.name}: say which of these is meant: --name {', '.join(tops)}")
        top = name if name is not None else next(iter(tops), "")
        record = opened.past_runs.last(top)
        if record is None:
            raise SourceError(f"{opened.name}: no run has loaded {top or 'anything'}")
        return Layout(record.layout, f"{opened.name}, run {record.run}")


def _of_layout(layout: Layout, name: str, kind: str) -> Structure:
    compiled = layout.compiled(secret=b"any")
    places: dict[str, PlaceFacts] = {}
    levels = set()
    for table in compiled.records.tables:
        if table.level:
            levels.add(format_path(table.level))
        keys = compiled.keys.get(written_name(table.name), ())
        for column in table.columns:
            source = column.source
            if source is None or isinstance((source.path or ("",))[-1], Origin):
                continue
            path = format_path(source.path)
            places.setdefault(path, _of_column(path, column, written_name(table.name), keys))
    return Structure(name, kind, places, frozenset(levels))


def _of_column(path: str, column: ColumnPlan, table: str, keys: tuple[str, ...]) -> PlaceFacts:
    rules = column.conditions
    allowed = None if rules.allowed is None else frozenset(json.dumps(str(each)) for each in rules.allowed)
    return PlaceFacts(
        path, str(column.value_type), allowed=allowed, is_required=rules.required,
        is_key=len(keys) == 1 and column.name in keys, column=f"{table}.{column.name}",
    )  # fmt: skip


def _kept_survey(thing: Any) -> dict[str, Any] | None:
    """Return what a file of a survey says; None where it is none."""
    if not isinstance(thing, (str, Path)) or not str(thing).lower().endswith(".json"):
        return None
    path = Path(thing)
    try:
        with path.open("rb") as file:
            if b'"sources"' not in file.read(200):
                return None
        found = json.loads(path.read_text("utf-8"))
    except (OSError, ValueError):
        return None
    return found if isinstance(found, dict) and found.keys() >= _SURVEY_KEYS else None


def _of_survey(name: str, survey: Mapping[str, Any]) -> Structure:
    places = {}
    levels = set()
    for each in survey["paths"]:
        if each["opens_level"] and each["depth"]:
            levels.add(each["path"])
        if each["type"]:
            places[each["path"]] = _of_survey_entry(each)
    return Structure(name, "survey", places, frozenset(levels), survey["records"])


def _of_survey_entry(each: Mapping[str, Any]) -> PlaceFacts:
    known = frozenset(str(one["value"]) for one in each["frequent"])
    values = known if each["distinct"] is not None and len(known) == each["distinct"] else None
    example = "" if each["example"] is None else _shown_example(**each["example"])
    counts = (each["rows"], each["filled"], each["distinct"], each["is_exact"])
    digits = _digits(each["type"], each["least"], each["most"])
    return PlaceFacts(each["path"], each["type"], *counts, values, example=example, digits=digits)


def _digits(kind: str, least: str | None, most: str | None) -> int | None:
    """Return the digits of the largest of some whole numbers, by the ends of these."""
    if kind != "integer" or least is None or most is None:
        return None
    return max(len(each.lstrip("-")) for each in (least, most))


def _of_source(facts: SurveyFacts) -> Structure:
    places = {}
    levels = set()
    # The entries know more of repeats than the shape alone.
    exact = {entry.path: entry for entry in facts.entries}
    for entry, node, path in survey_entries(facts.shape):
        if path and isinstance(path[-1], Each):
            levels.add(entry.path)
        if entry.type:
            places[entry.path] = _of_entry(exact.get(entry.path, entry), node)
    name = ", ".join(facts.sources[:2]) + (
        f" and {len(facts.sources) - 2:,} more" if len(facts.sources) > 2 else ""
    )
    return Structure(name, "source", places, frozenset(levels), facts.records)


def _of_entry(entry: PathEntry, node: ShapeNode) -> PlaceFacts:
    profile, values = node.profile, None
    if profile is not None and profile.distinct.counts is not None and (entry.distinct or 0) <= _MOST_VALUES:
        values = frozenset(str(value) for value, _ in profile.distinct.counts.values())
    example = entry.example
    shown = "" if example is None else _shown_example(example.value, example.source, example.line)
    counts = (entry.rows, entry.filled, entry.distinct, entry.is_exact)
    digits = _digits(entry.type, entry.least, entry.most)
    return PlaceFacts(entry.path, entry.type, *counts, values, example=shown, digits=digits)


def _shown_example(value: Parsed, source: str | None, line: int | None) -> str:
    text = value if isinstance(value, str) else json_text(value)
    where = "" if not source else f" ({source}{'' if line is None else f', line {line:,}'})"
    return f"{text}{where}"
