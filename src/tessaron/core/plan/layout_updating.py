"""Bringing the text of a layout up to date with a new draft: nothing that people wrote is touched."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Any

import tomlkit

from tessaron.core.base.naming import Names
from tessaron.core.base.parsed_values import TomlItem
from tessaron.core.base.paths import ABOVE, ELEMENT, TEXT_STEP, Origin, Path, format_path, is_markup
from tessaron.core.layout.layout_paths import LayoutPathError, LayoutPaths
from tessaron.core.layout.table_set import Column, Table, written_name
from tessaron.core.layout.texts.editing import append_column, comment_of, set_comment, set_keys
from tessaron.core.layout.texts.layout_writing import (
    NEW_MARK,
    UNMET_MARK,
    Draft,
    column_pair,
    remark_of,
    table_lines,
)
from tessaron.core.plan.compiling import CompiledLayout
from tessaron.core.plan.plan import LayingPlan
from tessaron.core.shape.shape_node import ShapeNode

_REPEATS_MARK = "repeats now"
_QUOTED_PATH = re.compile(r"""(?:path|rows)\s*=\s*(?:"((?:[^"\\]|\\.)*)"|'([^']*)')""")
_COMMENTED = re.compile(r"^\s*#\s*(?:[\w-]+|\"[^\"]*\")\s*=\s*\{.*$|^\s*#\s*rows\s*=.*$", re.MULTILINE)


@dataclass(frozen=True, slots=True)
class Update:
    """What an update changed.

    Attributes:
        new: Columns and tables that were added, each with its path.
        unmet: Columns and tables that were marked, each with its path.
        met_again: Those whose mark was taken away.
    """

    new: tuple[str, ...] = ()
    unmet: tuple[str, ...] = ()
    met_again: tuple[str, ...] = ()


def update_text(
    text: str, compiled: CompiledLayout, draft: Draft, marks_unmet: bool = True
) -> tuple[str, Update]:
    """Return the text of a layout with new paths added and those that were not met marked.

    Args:
        text: The layout.
        compiled: The same, ready to run.
        draft: What the source suggests now.
        marks_unmet: Whether what the source has not is marked: a part of what comes need not have all.
    """
    document = tomlkit.parse(text)
    unmet, again = _mark_unmet(document, compiled, draft) if marks_unmet else ([], [])
    repeated = _fold_repeated(document, compiled, draft)
    new: list[str] = []
    added: list[str] = []
    # Of XML what stands around is also what columns of records take from above.
    around = () if draft.record.is_markup else draft.around
    for plan, tables in ((compiled.around, around), (compiled.records, draft.tables.tables)):
        if plan is None:
            continue
        known = _Known(plan, compiled.spelling, text)
        for table in tables:
            name = _table_at(plan, table.rows, document)
            if name is not None:
                new += _add_columns(document, name, table, draft, known)
            elif not known.covers(table.rows) and _is_worth_adding(table, known):
                added += ["", *_new_table(table, draft, plan is compiled.around)]
                new.append(f"{table.name}: {format_path(table.rows)}")
    made = tomlkit.dumps(document).rstrip("\n") + "\n"
    if added:
        made += "\n".join(added) + "\n"
    return made, Update((*new, *repeated), tuple(unmet), tuple(again))


def _fold_repeated(document: TomlItem, compiled: CompiledLayout, draft: Draft) -> list[str]:
    """Let columns take the first value where what they hold repeats now, and has a table of its own."""
    levels = {table.level for table in compiled.records.tables}
    repeated = [
        _plain(table.rows)
        for table in draft.tables.tables
        if is_markup(table.rows) and table.rows not in levels
    ]
    told = []
    for table in compiled.records.tables:
        name = written_name(table.name)
        columns = document["tables"].get(name, {}).get("columns", {})
        for column in table.columns:
            if (
                column.source is None
                or column.fold is not None
                or "fold" in columns.get(column.name, ["fold"])
            ):
                continue
            path, own = _plain(column.source.path), len(_plain(table.level))
            if any(len(rows) > own and path[: len(rows)] == rows for rows in repeated):
                item = columns[column.name]
                set_keys(item, {"fold": "first"})
                comment = comment_of(item)
                set_comment(item, f"{_REPEATS_MARK}; {comment}" if comment else _REPEATS_MARK)
                told.append(f"{name}.{column.name}: {column.text} repeats now; it takes the first")
    return told


def _plain(path: Path) -> Path:
    """Return a path without the steps to each element."""
    return tuple(step for step in path if step is not ELEMENT)


def _with_or_without_text(path: Path) -> set[Path]:
    """Return how the path of a text is spelled where something else stands beside it, or nothing does."""
    if not is_markup(path):
        return set()
    return {path[:-1] if path[-1:] == (TEXT_STEP,) else (*path, TEXT_STEP)}


def _is_worth_adding(table: Table, known: _Known) -> bool:
    return not table.columns or any(not known.covers(column.path) for column in table.columns)


def _new_table(table: Table, draft: Draft, is_around: bool) -> list[str]:
    lines = table_lines(table, draft, is_around)
    head = next(index for index, line in enumerate(lines) if line.startswith("[tables."))
    lines[head] += f"  # {NEW_MARK}"
    return lines


class _Known:
    """The paths that a layout knows: of its tables and columns, of what it folds away, and in comments."""

    def __init__(self, plan: LayingPlan, spelling: LayoutPaths, text: str):
        self._spelling = spelling
        self._exact: set[Path] = set()
        self._whole: list[Path] = []
        self._levels: dict[str, list[Path]] = {}
        for table in plan.tables:
            self._levels.setdefault(written_name(table.name), []).append(table.level)
            for column in table.columns:
                if column.source is None:
                    continue
                path = column.source.path
                if path[-1:] == (Origin.JSON,):
                    self._whole.append(path[:-1])
                self._exact |= {path, *_with_or_without_text(path)}
        for change in plan.rearrangements:
            paths = change.detail if change.kind in ("union", "parallel") else [change.path]
            self._whole += [path for path in paths if change.kind not in ("embedded", "array")]
            # Single objects are rows of such a table, too.
            self._whole += [path[:-1] for path in paths if change.kind == "union" and path[-1:] == (ELEMENT,)]
            if change.kind in ("embedded", "split"):
                self._exact.add(change.path)
        for match in _COMMENTED.finditer(text):
            self._add_commented(match.group(), plan)

    def _add_commented(self, line: str, plan: LayingPlan) -> None:
        for double, single in _QUOTED_PATH.findall(line):
            try:
                paths = {
                    self._spelling.column(double or single, table.level, table.name).steps
                    for table in plan.tables
                }
            except LayoutPathError:
                continue
            self._exact |= paths | {(*path, TEXT_STEP) for path in paths}
            self._whole += [path for path in paths if path[-1:] == (ELEMENT,)]

    def learn(self, table: str, path: Path) -> None:
        """Take in that a table has a column now, given its path from the row."""
        self._exact |= {(*level, *path) for level in self._levels[table]}

    def covers(self, path: Path) -> bool:
        """Say whether a path, or all around it, is known."""
        return path in self._exact or any(path[: len(whole)] == whole for whole in self._whole)


def _table_at(plan: LayingPlan, rows: Path, document: TomlItem) -> str | None:
    names = (written_name(each.name) for each in plan.tables if each.level == rows and not each.once)
    return next((name for name in names if name in document["tables"]), None)


def _add_columns(document: TomlItem, name: str, table: Table, draft: Draft, known: _Known) -> list[str]:
    owner = document["tables"][name]
    added = []
    for column in table.columns:
        if known.covers(column.path) or isinstance(column.path[-1:] and column.path[-1], Origin):
            continue
        if "columns" not in owner:
            owner["columns"] = tomlkit.table()
        columns = owner["columns"]
        free = Names(columns).claim(column.name, otherwise="field")
        item = _item_of(column, table)
        remark = remark_of(column, draft.remarks)
        set_comment(item, f"{NEW_MARK}; {remark}" if remark else NEW_MARK)
        append_column(columns, free, item)
        known.learn(name, column.path[len(table.rows) :])
        added.append(f"{name}.{free}: {format_path(column.path)}")
    return added


def _item_of(column: Column, table: Table) -> Any:
    _, value = column_pair(column, table)
    return tomlkit.parse(f"x = {value}")["x"]


def _mark_unmet(document: TomlItem, compiled: CompiledLayout, draft: Draft) -> tuple[list[str], list[str]]:
    """Mark the columns whose path the source has not, and take the mark from those it has again."""
    unmet: list[str] = []
    again: list[str] = []
    moved = {
        change.path[-2] for change in compiled.records.rearrangements if change.kind in ("union", "parallel")
    }
    sources = _sources(compiled.records)
    for table in compiled.records.tables:
        name = written_name(table.name)
        columns = document["tables"].get(name, {}).get("columns", {})
        for column in table.columns:
            source = column.source
            # Of a shared table all places are looked at with the first.
            places = sources.pop((name, column.name), ())
            if (
                source is None
                or not places
                or column.name not in columns
                or isinstance(source.path[-1:] and source.path[-1], Origin)
                or str(source.path[:1] and source.path[0]).startswith(ABOVE)
            ):
                continue
            if compiled.records.rearrangements and (
                set(source.path) & moved or _is_rearranged(source.path, compiled)
            ):
                continue
            item = columns[column.name]
            comment = comment_of(item)
            is_marked = UNMET_MARK in comment.split("; ")
            if any(_stands(draft.record, path) for path in places):
                if is_marked:
                    rest = "; ".join(part for part in comment.split("; ") if part != UNMET_MARK)
                    item.trivia.comment_ws, item.trivia.comment = ("  ", f"# {rest}") if rest else ("", "")
                    again.append(f"{name}.{column.name}: {column.text}")
            else:
                unmet.append(f"{name}.{column.name}: {column.text}")
                if not is_marked:
                    set_comment(item, f"{UNMET_MARK}; {comment}" if comment else UNMET_MARK)
    return unmet, again


def _sources(plan: LayingPlan) -> dict[tuple[str, str], list[Path]]:
    """Return where the values of each column stand, by table and column, at all places of shared ones."""
    found: dict[tuple[str, str], list[Path]] = {}
    for table in plan.tables:
        for column in table.columns:
            if column.source is not None:
                found.setdefault((written_name(table.name), column.name), []).append(column.source.path)
    return found


def _is_rearranged(path: Path, compiled: CompiledLayout) -> bool:
    """Say whether a path leads to what a change of structure has made, which no draft shows."""
    return any(
        path[: len(change.path) - (change.kind == "unwrapped")]
        == change.path[: len(change.path) - (change.kind == "unwrapped")]
        for change in compiled.records.rearrangements
    )


def _stands(record: ShapeNode, path: Path) -> bool:
    if path[-1:] == (TEXT_STEP,) and _stands(record, path[:-1]):
        # An element with nothing but text has it as its own.
        return True
    nodes = [record]
    for step in path:
        nodes = [node.fold or node for node in nodes]
        # An element that repeats has what a single one has, in each of them.
        nodes += [node.children[ELEMENT] for node in nodes if node.is_markup and ELEMENT in node.children]
        nodes = [node.children[step] for node in nodes if step in node.children]
    return bool(nodes)
