"""Rows of bare values that get their names from elsewhere."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pyarrow as pa

from tessaron.core.base.errors import Code
from tessaron.core.base.kinds import Kind
from tessaron.core.base.paths import ELEMENT, ENTRY, Path, Step, level_of, step_of_name
from tessaron.core.base.text_lane import Bools, Int32s, Int64s, TextLane
from tessaron.core.base.visible import in_quotes
from tessaron.core.plan.plan import Rearrangement
from tessaron.core.rearrange.pieces import add_member
from tessaron.core.rearrange.rearranging import Rearranging, climb, with_kind
from tessaron.core.tape.branches import Branch, Part, merge
from tessaron.core.tape.fragment import Node, Role
from tessaron.core.tape.regroup import to_members


def name_rows(work: Rearranging, change: Rearrangement) -> None:
    """Make objects of rows that are bare arrays; the names stand elsewhere in the same record or element.

    Rows that are objects already, and those that are single values, stay what they are.
    """
    rows_branch, names_branch = work.find(change.path), work.find(change.detail)
    element = None if rows_branch is None else rows_branch.children.get(ELEMENT)
    if element is None:
        return
    to_members(element)
    cells = element.children.pop(ELEMENT, None)
    element.node = with_kind(element.node, element.node.kinds == Kind.ARRAY, Kind.OBJECT)
    if cells is None:
        return
    common = _common_level(change.path, change.detail)
    record_of_cell = _rows_up(work, change.path, element, cells, common)
    table = _names_by_record(work, change.detail, names_branch, common)
    found = _lookup(table, record_of_cell, cells.node.ordinals.astype(np.int64))
    codes = np.append(table[3], -1)[found]
    again = _stands_again(codes, cells.node.parent_rows)
    for step, child in _members_of(cells, table[2], np.where(again, -1, codes), element).items():
        if step in element.children:
            same = np.arange(element.node.row_count, dtype=np.int32)
            add_member(element, step, Part(child, same, is_whole=True), element.node.row_count)
        else:
            element.children[step] = child
    _say_again(work, change, cells.node.parent_rows[again], codes[again], table[2])
    _say_lengths(work, change, element, cells.node.parent_rows, codes, record_of_cell, table)


def _stands_again(codes: Int64s, parents: Int32s) -> Bools:
    """Return for which cells the row has a cell of that name before."""
    order = np.lexsort((codes, parents))
    same = (codes[order][1:] == codes[order][:-1]) & (parents[order][1:] == parents[order][:-1])
    again = np.zeros(len(codes), np.bool_)
    again[order[1:][same]] = True
    return again & (codes >= 0)


def _members_of(cells: Branch, names: list[str], codes: Int64s, element: Branch) -> dict[Step, Branch]:
    """Return members of the rows, made of those cells that have a name."""
    kept = np.flatnonzero(codes >= 0)
    new_rows = np.full(len(codes), -1, np.int32)
    new_rows[kept] = np.arange(len(kept), dtype=np.int32)
    entry = merge([Part(cells, new_rows)], Role.ENTRY, None, len(kept), {})
    entry.node.parent_rows = cells.node.parent_rows[kept]
    entry.node.ordinals = cells.node.ordinals[kept]
    steps = pa.array(list(map(step_of_name, names)), pa.large_string())
    entry.node.keys = TextLane.of(steps.take(pa.array(codes[kept])))
    holder = Branch(Node(-1, Role.ELEMENT, None, element.node.row_count), {ENTRY: entry})
    to_members(holder)
    return holder.children


def _say_again(
    work: Rearranging, change: Rearrangement, rows: Int32s, codes: Int64s, names: list[str]
) -> None:
    at_rows = replace(change, path=(*change.path, ELEMENT))
    reasons = [
        f"the name {in_quotes(names[code])} stands twice among the names; the first value counts"
        for code in codes.tolist()
    ]
    work.say(at_rows, Code.NAME_REPEATED, rows.astype(np.int64), reasons)


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
    order = np.argsort(keys, kind="stable")
    at = np.minimum(np.searchsorted(keys[order], wanted), len(keys) - 1)
    return np.where(keys[order][at] == wanted, order[at], -1)


def _say_lengths(
    work: Rearranging, change: Rearrangement, element: Branch, parents: Int32s, codes: Int64s,
    records: Int64s, table: NamesTable,
) -> None:  # fmt: skip
    """Report rows with more values than names, which lose values, and rows with fewer."""
    at_rows = replace(change, path=(*change.path, ELEMENT))
    unnamed = np.unique(parents[codes < 0]).astype(np.int64)
    reason = "the row has more values than there are names; those without a name are left out"
    work.say(at_rows, Code.ROW_TOO_LONG, unnamed, [reason] * len(unnamed))
    count = element.node.row_count
    widths = np.bincount(parents, minlength=count)
    names_of_record = np.bincount(table[0], minlength=int(records.max(initial=0)) + 1)
    record_of_row = np.zeros(count, np.int64)
    record_of_row[parents] = records
    short = np.flatnonzero((widths > 0) & (widths < names_of_record[record_of_row])).astype(np.int64)
    reason = "the row has fewer values than there are names; the last columns are null"
    work.say(at_rows, Code.ROW_TOO_SHORT, short, [reason] * len(short), rejects=False)
