"""Writing a drafted layout as TOML that reads well: a line per column, and beside it what is known of it."""

from __future__ import annotations

import json
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from tessaron.core.base.paths import Origin, format_path, is_markup, name_of_step
from tessaron.core.base.visible import visible
from tessaron.core.layout.path_spelling import path_below, rows_path
from tessaron.core.layout.table_reasons import TableReason
from tessaron.core.layout.table_set import Column, Table, TableSet, by_written_name, written_name
from tessaron.core.shape.recursion import places_again
from tessaron.core.shape.shape_node import ShapeNode
from tessaron.core.tape.gathering import Gathered

_BARE = re.compile(r"[A-Za-z0-9_-]+\Z")
_PLAIN = re.compile(r"[ !#-\[\]-~]*\Z")
"""What stands in a basic string as it is."""
_COMMENT_FROM, _COMMENT_TO = 40, 84
"""Comments begin in one column, within these bounds, so that they can be read down the page."""
NEW_MARK, UNMET_MARK = "new", "not met"


@dataclass(frozen=True, slots=True)
class Remark:
    """What is known of a path: which share of the rows has it, an example as JSON, a note."""

    fill_rate: float | None = None
    example: str = ""
    note: str = ""

    def shown(self) -> str:
        """Return the words of the comment."""
        parts = [
            "" if self.fill_rate is None else _percent(self.fill_rate),
            self.example,
            f"note: {self.note}" if self.note else "",
        ]
        return "; ".join(part for part in parts if part)


@dataclass(frozen=True, slots=True)
class Draft:
    """What a layout file is written from.

    Attributes:
        tables: The tables of the records.
        record: The settled shape.
        remarks: What is known, by path as JSONPath.
        reading: Keys of `[reading]` with their values.
        around: The tables of what stands around the records.
        head: Lines of comment at the top.
        namespaces: Of XML: the namespaces by their prefix.
        around_record: The settled shape of what stands around the records.
        reasons: Why each table is one, by its name.
        gathered: Trees whose nodes have come together.
    """

    tables: TableSet
    record: ShapeNode
    remarks: Mapping[str, Remark] = field(default_factory=dict)
    reading: Mapping[str, object] = field(default_factory=dict)
    around: Sequence[Table] = ()
    head: Sequence[str] = ()
    namespaces: Mapping[str, str] = field(default_factory=dict)
    around_record: ShapeNode | None = None
    reasons: Mapping[str, TableReason] = field(default_factory=dict)
    gathered: Sequence[Gathered] = ()


def write_draft(draft: Draft) -> str:
    """Return the text of the layout file."""
    lines = [f"# {line}" for line in draft.head]
    lines += ["", "exact = true"] * draft.tables.exact
    lines += ["", "[reading]", *_pairs(draft.reading)]
    if draft.namespaces:
        lines += ["[reading.namespaces]", *_pairs(draft.namespaces)]
    structure = [_gathered_line(tree) for tree in draft.gathered]
    structure += [
        f"{key}.{toml_text(path)} = {toml_text(begins)}"
        for key, record in (("again_around", draft.around_record), ("again", draft.record))
        for path, begins in sorted(_again(record).items())
    ]
    if structure:
        lines += ["", "[structure]", *structure]
    for table in draft.around:
        lines += ["", *table_lines(table, draft, is_around=True)]
    for group in by_written_name(draft.tables.tables).values():
        lines += ["", *table_lines(group[0], draft, places=[table.place for table in group])]
    return "\n".join(lines).lstrip("\n") + "\n"


def _gathered_line(tree: Gathered) -> str:
    fields = [name_of_step(step) for step in sorted(tree.fields)]
    return f"gathered.{toml_text(format_path(tree.path))} = {toml_list(fields)}"


def table_lines(table: Table, draft: Draft, is_around: bool = False, places: Sequence[str] = ()) -> list[str]:
    """Return the lines of one table; of a shared one with its places, given that of the rows at the first."""
    shown = written_name(table.name)
    name = toml_key(shown)
    reason = draft.reasons.get(shown)
    lines = [f"# {visible(reason.shown())}"] if reason is not None else []
    lines.append(f"[tables.{name}]")
    lines += ["around = true"] * is_around
    if shown != table.name:
        lines += _shared_lines(places)
    else:
        lines.append(f"rows = {toml_text(rows_path(table.rows, draft.record))}")
    lines += ["only_filled = true"] * table.only_filled
    if table.once:
        lines.append(f"once = {toml_value(table.once[0] if len(table.once) == 1 else table.once)}")
    is_top = table.parent is None and not table.once
    if draft.tables.natural_key and is_top and not table.rows and not is_around:
        lines.append(f"key = {toml_list(draft.tables.natural_key)}")
    pairs = [column_pair(column, table) for column in table.columns]
    remarks = {} if is_around else draft.remarks
    if pairs:
        lines.append(f"[tables.{name}.columns]")
        lines += aligned_columns(
            [
                (key, value, remark_of(column, remarks))
                for column, (key, value) in zip(table.columns, pairs, strict=True)
            ]
        )
    return lines


def _shared_lines(places: Sequence[str]) -> list[str]:
    return ["shared = [", *(f"  {toml_text(place)}," for place in places), "]"]


def remark_of(column: Column, remarks: Mapping[str, Remark]) -> str:
    """Return the comment of a column."""
    known = remarks.get(format_path(column.path)) if column.path[-1:] != () or column.path == () else None
    if known is None:
        return f"note: {column.note}" if column.note else ""
    return Remark(known.fill_rate, known.example, column.note or known.note).shown()


def column_pair(column: Column, table: Table) -> tuple[str, str]:
    """Return the key of a column, and its value: an inline table."""
    parts = []
    if column.path and isinstance(column.path[-1], Origin):
        parts.append(f"origin = {toml_text(column.path[-1].value)}")
    else:
        rows = table.looked_up_at or table.rows
        parts.append(f"path = {toml_text(path_below(column.path, rows))}")
    parts.append(f"type = {toml_text(column.type.spelled())}")
    if column.reading is not None and column.reading.name == "boolean":
        words = column.reading.separator.split("/")
        # In XML all is text, and true and false go without saying; in JSON they would be no texts.
        if not (is_markup(column.path) and words == ["true", "false"]):
            parts.append(f"words = {toml_list(words)}")
    if column.written:
        parts.append(f"written = {toml_text(column.written)}")
    return toml_key(column.name), "{ " + ", ".join(parts) + " }"


def _again(record: ShapeNode | None) -> dict[str, str]:
    """Return where structures that contain themselves stand again; all else is seen from the paths."""
    found = {} if record is None else places_again(record)
    return {format_path(path): format_path(begins) for path, begins in found.items()}


def _pairs(values: Mapping[str, object]) -> list[str]:
    return [f"{toml_key(key)} = {toml_value(value)}" for key, value in values.items()]


def aligned_columns(rows: list[tuple[str, str, str]]) -> list[str]:
    """Return lines whose equal signs stand below each other, and their comments too where there is room."""
    width = max(len(key) for key, _, _ in rows)
    heads = [f"{key:<{width}} = {value}" for key, value, _ in rows]
    column = min(max(_COMMENT_FROM, *map(len, heads)), _COMMENT_TO)
    return [
        f"{head:<{column}}  # {visible(remark)}" if remark else head
        for head, (_, _, remark) in zip(heads, rows, strict=True)
    ]


def toml_key(name: str) -> str:
    """Return a name as a TOML key, in quotes where it needs them."""
    return name if _BARE.match(name) else toml_text(name)


def toml_text(text: str) -> str:
    """Return a text as a TOML basic string."""
    return f'"{text}"' if _PLAIN.match(text) else visible(json.dumps(text, ensure_ascii=False))


def toml_list(texts: Sequence[str]) -> str:
    """Return texts as a TOML array."""
    return "[" + ", ".join(map(toml_text, texts)) + "]"


def toml_value(value: object) -> str:
    """Return a text, boolean or list of texts as TOML."""
    if isinstance(value, bool):
        return "true" if value else "false"
    return toml_list(value) if isinstance(value, (list, tuple)) else toml_text(str(value))


def _percent(share: float) -> str:
    if share >= 1:
        return "always"
    percent = share * 100
    return f"{percent:.0f} %" if 1 <= percent <= 99 else f"{percent:.1f} %"
