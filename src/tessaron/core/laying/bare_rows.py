"""Rows of bare values that get their names from elsewhere."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from tessaron.core.branches import Branch, Part, merge
from tessaron.core.fragment import Int32s, Int64s, Role
from tessaron.core.kinds import Kind
from tessaron.core.laying.plan import Rearrangement
from tessaron.core.laying.rearranging import Rearranging, climb, level_of, with_kind
from tessaron.core.paths import ELEMENT, Path


def name_rows(work: Rearranging, change: Rearrangement) -> None:
    """Make objects of rows that are bare arrays; the names stand elsewhere in the same record or element."""
    rows_branch, names_branch = work.find(change.path), work.find(change.detail)
    element = None if rows_branch is None else rows_branch.children.get(ELEMENT)
    cells = None if element is None else element.children.get(ELEMENT)
    if element is None or cells is None:
        return
    common = _common_level(change.path, change.detail)
    record_of_cell = _rows_up(work, change.path, element, cells, common)
    table = _names_by_record(work, change.detail, names_branch, common)
    ordinals = cells.node.ordinals.astype(np.int64)
    found = _lookup(table, record_of_cell, ordinals)
    del element.children[ELEMENT]
    element.node = with_kind(element.node, element.node.kinds == Kind.ARRAY, Kind.OBJECT)
    codes = np.append(table[3], -1)[found]
    parents = cells.node.parent_rows
    for code, name in enumerate(table[2]):
        chosen = codes == code
        if not chosen.any():
            continue
        new_rows = np.where(chosen, parents, -1).astype(np.int32)
        element.children[name] = merge([Part(cells, new_rows)], Role.MEMBER, name, element.node.row_count, {})
        element.children[name].node.positions = np.array([code], np.int32)
    _say_lengths(work, change, element, parents, codes, record_of_cell, table)


def _common_level(first: Path, second: Path) -> Path:
    """Return the lowest level on which both paths stand."""
    common: Path = ()
    for count in range(1, min(len(first), len(second)) + 1):
        if first[:count] != second[:count]:
            break
        common = level_of(first[:count])
    return common


def _rows_up(work: Rearranging, path: Path, element: Branch, cells: Branch, upper: Path) -> Int64s:
    """Return for each cell the row of a level above."""
    rows = element.node.parent_rows[cells.node.parent_rows]
    return climb(work, rows, level_of(path), upper)


NamesTable = tuple[Int64s, Int64s, list[str], Int64s]


def _names_by_record(work: Rearranging, path: Path, branch: Branch | None, upper: Path) -> NamesTable:
    """Return the names: the row of the upper level, position from 1, all names, and the code of each."""
    nothing = np.empty(0, np.int64)
    if branch is None or not len(branch.node.texts):
        return nothing, nothing, [], nothing
    level = level_of(path)
    holder = work.find(level)
    assert holder is not None
    rows = branch.node.rows_present()[branch.node.kinds == Kind.TEXT]
    records = climb(work, holder.node.parent_rows[rows], level_of(level[:-1]), upper)
    encoded = branch.node.texts.to_arrow().dictionary_encode()
    names = encoded.dictionary.to_pylist()
    codes = encoded.indices.to_numpy().astype(np.int64)
    return records, holder.node.ordinals[rows].astype(np.int64), names, codes


def _lookup(table: NamesTable, records: Int64s, ordinals: Int64s) -> Int64s:
    """Return for each cell the row of its name in the table; -1 where there is none."""
    if not len(table[0]):
        return np.full(len(records), -1, np.int64)
    width = int(max(table[1].max(), ordinals.max(initial=1))) + 1
    keys, wanted = table[0] * width + table[1], records * width + ordinals
    at = np.minimum(np.searchsorted(keys, wanted), len(keys) - 1)
    return np.where(keys[at] == wanted, at, -1)


def _say_lengths(
    work: Rearranging, change: Rearrangement, element: Branch, parents: Int32s, codes: Int64s,
    records: Int64s, table: NamesTable,
) -> None:  # fmt: skip
    """Report rows with more values than names, which lose values, and rows with fewer."""
    at_rows = replace(change, path=(*change.path, ELEMENT))
    unnamed = np.unique(parents[codes < 0]).astype(np.int64)
    reason = "the row has more values than there are names; those without a name are left out"
    work.say(at_rows, "row_too_long", unnamed, [reason] * len(unnamed))
    count = element.node.row_count
    widths = np.bincount(parents, minlength=count)
    names_of_record = np.bincount(table[0], minlength=int(records.max(initial=0)) + 1)
    record_of_row = np.zeros(count, np.int64)
    record_of_row[parents] = records
    short = np.flatnonzero((widths > 0) & (widths < names_of_record[record_of_row])).astype(np.int64)
    reason = "the row has fewer values than there are names; the last columns are null"
    work.say(at_rows, "row_too_short", short, [reason] * len(short), rejects=False)
