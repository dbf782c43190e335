"""The structure, its notes and its tables, as short lists that the script of a page draws."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from tessaron.core.base.arrays import ArrowRows
from tessaron.core.base.paths import Origin, Path, format_path, plain_name
from tessaron.core.base.visible import visible
from tessaron.core.layout.layout_model import LayoutPart
from tessaron.core.layout.table_reasons import TableReason
from tessaron.core.layout.table_set import Table
from tessaron.core.survey.noticing import SurveyNote
from tessaron.core.survey.survey_entries import PathEntry, SurveyFacts
from tessaron.views.diagram.placing import place
from tessaron.views.diagram.svg_drawing import svg_of
from tessaron.views.diagram.table_links import drawn_tables, single_tables
from tessaron.views.grid import shown
from tessaron.views.page.page_model import ShownStructure
from tessaron.views.preview_view import row_values
from tessaron.views.rows_view import cell_text
from tessaron.views.survey_outline import distinct_cell, kinds_cell, type_cell, values_alone

MOST_PATHS = 20_000
"""A page shows no more paths; it says so."""
_VALUES_WIDTH, _EXAMPLE_WIDTH, _CELL_WIDTH = 72, 60, 48
_MOST_CELLS = 6_000
"""Cells of first rows, all tables together; with more columns fewer rows are shown."""
_MOST_ROWS = 8


@dataclass(frozen=True, slots=True)
class ShownTables:
    """The tables of a page.

    Attributes:
        tables: They, as they are written.
        part: The layout they come from.
        reasons: Why each is one, by its name.
        counts: How many rows each has, where that is known.
        first: Their first rows.
        filled: The values of columns, by `table.column`, where they were counted.
        notes: Notes on columns, by `table.column`.
    """

    tables: Sequence[Table]
    part: LayoutPart
    reasons: Mapping[str, TableReason] = field(default_factory=dict)
    counts: Mapping[str, int] = field(default_factory=dict)
    first: Mapping[str, ArrowRows] = field(default_factory=dict)
    filled: Mapping[str, int] = field(default_factory=dict)
    notes: Mapping[str, str] = field(default_factory=dict)


def structure_of_survey(
    facts: SurveyFacts, tables: ShownTables | None, taken: Mapping[str, tuple[str, ...]]
) -> ShownStructure:
    """Return the structure that a survey has found, with the tables it leads to.

    Args:
        facts: What was found.
        tables: The tables.
        taken: For each path the columns that take its values, as `table.column`.
    """
    entries = facts.entries[:MOST_PATHS]
    numbers = path_numbers(facts)
    sources = {name: number for number, name in enumerate(facts.sources)}
    data: dict[str, Any] = {
        "sources": list(map(visible, facts.sources)),
        "paths": list(_path_rows(entries, sources)),
        "notes": [_note_row(note, numbers, sources) for note in facts.notes],
        "advice": {note.code: note.advice for note in facts.notes},
        "more": len(facts.entries) - len(entries),
    }
    return _with_tables(data, tables, columns_at(taken, numbers))


def path_numbers(facts: SurveyFacts) -> dict[str, int]:
    """Return the paths of a page, each with its number there."""
    return {entry.path: number for number, entry in enumerate(facts.entries[:MOST_PATHS])}


def columns_at(taken: Mapping[str, tuple[str, ...]], numbers: Mapping[str, int]) -> dict[str, int]:
    """Return for each column the number of its path; -1 where that is not on the page."""
    columns: dict[str, int] = {}
    for path, names in taken.items():
        for name in names:
            columns.setdefault(name, numbers.get(path, -1))
    return columns


def tables_alone(
    tables: ShownTables, taken: Mapping[str, tuple[str, ...]], numbers: Mapping[str, int]
) -> ShownStructure:
    """Return tables and their diagram, for a page that has the paths already."""
    return _with_tables({"paths": [], "notes": []}, tables, columns_at(taken, numbers))


def structure_of_tables(tables: ShownTables) -> ShownStructure:
    """Return the structure as far as tables tell it: the paths of their columns."""
    numbers: dict[Path, int] = {}
    rows: list[list[Any]] = []
    columns: dict[str, int] = {}
    for table in tables.tables:
        for column in table.columns:
            if column.path and not isinstance(column.path[-1], Origin):
                number = _number_of(column.path, numbers, rows)
                columns[f"{table.name}.{column.name}"] = number
    ordered = _in_tree_order(numbers)
    moved = {number: place for place, (number, _) in enumerate(ordered)}
    made = [rows[number] for number, _ in ordered]
    whole = {
        f"{table.name}.{column.name}": (table, column) for table in tables.tables for column in table.columns
    }
    examples = dict(_examples(tables))
    for name, number in columns.items():
        table, column = whole[name]
        total = tables.counts.get(table.name)
        filled = tables.filled.get(name)
        made[moved[number]][3:6] = [total, filled, str(column.type)]
        made[moved[number]][9] = examples.get(name, "")
    return _with_tables(
        {"sources": [], "paths": _with_rests(made, [path for _, path in ordered]), "notes": [], "more": 0},
        tables,
        {name: moved[number] for name, number in columns.items()},
    )


def _examples(tables: ShownTables) -> Iterator[tuple[str, str]]:
    """Yield the first value of each column among the first rows, by `table.column`."""
    for table in tables.tables:
        rows = tables.first.get(table.name)
        if rows is not None:
            for name, values in zip(
                rows.schema.names, zip(*row_values(rows, table), strict=True), strict=False
            ):
                text = next((cell_text(value) for value in values if value is not None), None)
                if text is not None:
                    yield f"{table.name}.{name}", visible(shown(text, _EXAMPLE_WIDTH))


def _number_of(path: Path, numbers: dict[Path, int], rows: list[list[Any]]) -> int:
    for size in range(len(path) + 1):
        prefix = path[:size]
        if prefix not in numbers:
            numbers[prefix] = len(rows)
            step = prefix[-1] if prefix else None
            name = "$" if step is None else plain_name(step) if isinstance(step, str) else str(step.value)
            rows.append([size, visible(name), "", None, None, "", "", "", "", "", -1, None, "", 0])
    return numbers[path]


def _in_tree_order(numbers: Mapping[Path, int]) -> list[tuple[int, Path]]:
    """Return paths with what is below each right behind it, siblings as they came."""
    below: dict[Path, list[Path]] = {}
    for path in numbers:
        if path:
            below.setdefault(path[:-1], []).append(path)
    made = []
    pending: list[Path] = [()] if () in numbers else []
    while pending:
        path = pending.pop()
        made.append((numbers[path], path))
        pending.extend(reversed(below.get(path, ())))
    return made


def _with_rests(rows: list[list[Any]], paths: Sequence[Path]) -> list[list[Any]]:
    above: list[str] = []
    for row, path in zip(rows, paths, strict=True):
        row[2] = _rest(format_path(path), above, row[0])
    return rows


def _rest(path: str, above: list[str], depth: int) -> str | list[str]:
    """Return a path without that above it, if it begins with that; else whole, in a list.

    What a browser would act on is an escape, as JSONPath has them too.
    """
    path = visible(path)
    del above[depth:]
    parent = above[-1] if above else ""
    above.append(path)
    return path[len(parent) :] if path.startswith(parent) else [path]


def _path_rows(entries: Iterable[PathEntry], sources: Mapping[str, int]) -> Iterator[list[Any]]:
    above: list[str] = []
    for entry in entries:
        example = entry.example
        yield [
            entry.depth,
            visible(entry.name),
            _rest(entry.path, above, entry.depth),
            entry.rows,
            entry.filled,
            type_cell(entry),
            kinds_cell(entry),
            distinct_cell(entry),
            visible(values_alone(entry, _VALUES_WIDTH)),
            "" if example is None else visible(shown(example.value, _EXAMPLE_WIDTH)),
            -1 if example is None else sources.get(example.source, -1),
            None if example is None else example.line,
            entry.type_note,
            int(entry.opens_level),
        ]


def _note_row(note: SurveyNote, numbers: Mapping[str, int], sources: Mapping[str, int]) -> list[Any]:
    example = note.example
    return [
        note.code,
        numbers.get(note.path, -1),
        "" if note.path in numbers else visible(note.path),
        visible(note.text),
        note.count,
        "" if example is None else visible(shown(example.value, _EXAMPLE_WIDTH)),
        -1 if example is None else sources.get(example.source, -1),
        None if example is None else example.line,
    ]


def _with_tables(
    data: dict[str, Any], tables: ShownTables | None, paths: Mapping[str, int]
) -> ShownStructure:
    diagram = ""
    data["tables"] = []
    if tables is not None:
        drawn = drawn_tables(tables.tables, single_tables(tables.part), tables.counts)
        placed = place(drawn)
        title = f"{len(drawn.boxes):,} tables and how they refer to each other"
        diagram = svg_of(placed, title) if drawn.boxes else ""
        data["tables"] = list(_table_rows(tables, paths))
        data["folded"] = placed.is_folded
    return ShownStructure(
        data,
        diagram,
        bool(data["paths"]),
        bool(data["notes"]),
        any(table["first"] for table in data["tables"]),
    )


def _table_rows(tables: ShownTables, paths: Mapping[str, int]) -> Iterator[dict[str, Any]]:
    cells = sum(len(table.key_columns()) + len(table.columns) for table in tables.tables)
    most = max(1, min(_MOST_ROWS, _MOST_CELLS // max(1, cells)))
    for table in tables.tables:
        reason = tables.reasons.get(table.name)
        keys = table.key_columns()
        columns = [[name, table.key_type_of(name), "key", -1, "", None] for name in keys]
        for column in table.columns:
            name = f"{table.name}.{column.name}"
            note = column.note or tables.notes.get(name, "")
            at = visible(column.shown) if paths.get(name, -1) < 0 else ""
            columns.append(
                [
                    visible(column.name),
                    str(column.type),
                    at,
                    paths.get(name, -1),
                    note,
                    tables.filled.get(name),
                ]
            )
        yield {
            "name": visible(table.name),
            "rows": tables.counts.get(table.name),
            "path": _rows_path(table, tables.part),
            "why": "" if reason is None else reason.text,
            "otherwise": "" if reason is None else reason.otherwise,
            "columns": columns,
            "first": _first_rows(tables.first.get(table.name), table, most),
        }


def _rows_path(table: Table, part: LayoutPart) -> str:
    """Return where the rows of a table stand, as its layout spells it; nothing where that is no one place."""
    known = part.tables.get(table.name)
    return (
        visible(known.rows) if known is not None and isinstance(known.rows, str) and not known.around else ""
    )


def _first_rows(rows: ArrowRows | None, table: Table, most: int) -> list[list[str | None]]:
    if rows is None or not rows.num_rows:
        return []
    return [
        [None if text is None else shown(text, _CELL_WIDTH) for text in map(cell_text, row)]
        for row in row_values(rows.slice(0, most), table)
    ]
