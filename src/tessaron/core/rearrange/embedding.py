"""Texts that hold documents: parsed, and put in their place."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from tessaron.core.base.errors import Code
from tessaron.core.base.json_text import json_text
from tessaron.core.base.kinds import Kind
from tessaron.core.base.paths import MARKUP, Origin, Path, format_path, is_markup
from tessaron.core.base.text_lane import Bools, Int64s, TextLane
from tessaron.core.cutting.selecting import SelectionBelow
from tessaron.core.cutting.separator import Separator
from tessaron.core.kernel import choose_kernel
from tessaron.core.kernel.contract import KernelOptions
from tessaron.core.kernel.record_reader import RecordReader
from tessaron.core.kernel.tape_builder import TapeBuilder
from tessaron.core.kernel.xml_values import XmlTextError, parse_xml
from tessaron.core.plan.plan import Rearrangement
from tessaron.core.rearrange.rearranging import Rearranging, without
from tessaron.core.tape.branches import Branch, Part, merge, tree_of
from tessaron.core.tape.emission import emit
from tessaron.core.tape.fragment import Fragment, Role
from tessaron.core.types.told_texts import spelled


def embed(work: Rearranging, change: Rearrangement) -> None:
    """Parse the texts at a path as documents, which then stand there in their place."""
    branch = work.find(change.path)
    if branch is None or not len(branch.node.texts):
        return
    node = branch.node
    is_text = node.kinds == Kind.TEXT
    rows = node.rows_present()[is_text]
    inner, good, reasons = _PARSERS[change.detail](node.texts, work, change.path)
    bad = np.flatnonzero(~good)
    work.say(change, Code.EMBEDDED, rows[bad].astype(np.int64), [reasons[int(index)] for index in bad])
    outer_rows = rows[good]
    gone = np.zeros(len(node.kinds), np.bool_)
    gone[is_text] = True
    kept = Branch(without(node, gone), branch.children)
    if Origin.JSON in kept.children:
        raw = kept.children[Origin.JSON]
        raw.node = without(raw.node, np.isin(raw.node.rows_present(), rows))
    if inner is None:
        branch.node = kept.node
        return
    everywhere = np.arange(node.row_count, dtype=np.int32)
    parts = [Part(kept, everywhere), Part(inner, outer_rows.astype(np.int32))]
    made = merge(parts, node.role, node.name, node.row_count, {})
    made.node.parent_rows, made.node.ordinals = node.parent_rows, node.ordinals
    branch.node, branch.children = made.node, made.children


Parsed = tuple[Branch | None, Bools, dict[int, str]]
"""The tree of the texts that are documents, which of them are, and why the others are not."""


def _parse_xml_texts(lane: TextLane, work: Rearranging, path: Path) -> Parsed:
    """Return the texts that are XML; the root element stands in the place of the text."""
    selection = work.options.selection
    below = None if selection is None else SelectionBelow(selection, path, _mark_of(path))
    builder = TapeBuilder(below)
    good = np.ones(len(lane), np.bool_)
    reasons: dict[int, str] = {}
    for row, text in enumerate(lane.to_arrow().to_pylist()):
        try:
            builder.add(parse_xml(text, below))
        except XmlTextError as error:
            good[row], reasons[row] = False, str(error)
    fragment = _marked(emit(builder.finish()), path)
    _count_passed(work, path, fragment)
    return (tree_of(fragment) if fragment.record_count else None), good, reasons


def _parse_json_texts(lane: TextLane, work: Rearranging, path: Path) -> Parsed:
    """Return the texts that are JSON."""
    texts = spelled(lane.to_arrow()) if work.options.tells_halves else lane.to_arrow()
    good = np.ones(len(texts), np.bool_)
    reasons: dict[int, str] = {}
    blank = pc.equal(pc.utf8_length(pc.utf8_trim_whitespace(texts)), 0).to_numpy(zero_copy_only=False)
    for row in map(int, np.flatnonzero(blank)):
        good[row], reasons[row] = False, "expected JSON, got a blank text"
    breaks = pc.or_(pc.match_substring(texts, "\n"), pc.match_substring(texts, "\r"))
    pretty = np.flatnonzero(breaks.to_numpy(zero_copy_only=False) & good)
    if len(pretty):
        texts = _on_one_line(texts, pretty, good, reasons)
    selection = work.options.selection
    below = None if selection is None else SelectionBelow(selection, path, _mark_of(path))
    options = replace(work.options, selection=below)
    rows = np.flatnonzero(good)
    if not len(rows):
        return None, good, reasons
    fragment = _parse_lines(texts, rows, work.kernel, options)
    several = _rows_of_several(fragment, texts, rows)
    if len(several):
        for row in several.tolist():
            good[row], reasons[row] = False, "expected one JSON text, got several"
        rows = np.flatnonzero(good)
        fragment = _parse_lines(texts, rows, work.kernel, options)
    for fault in fragment.faults:
        row = int(rows[fault.record])
        good[row], reasons[row] = False, fault.reason
    fragment = _marked(fragment, path)
    _count_passed(work, path, fragment)
    return (tree_of(fragment) if fragment.record_count else None), good, reasons


def _mark_of(path: Path) -> str:
    """Return what names have in front where they stand: inside of XML, those of a text are spelled alike."""
    return MARKUP if is_markup(path) else ""


def _marked(fragment: Fragment, path: Path) -> Fragment:
    """Return the fragment of texts with its names as they are at their place."""
    mark = _mark_of(path)
    for node in fragment.nodes if mark else ():
        if node.role is Role.MEMBER:
            node.name = mark + str(node.name)
    passed = [
        replace(each, name=mark + each.name) if mark and each.role is Role.MEMBER and each.name else each
        for each in fragment.passed
    ]
    return replace(fragment, passed=passed)


def _count_passed(work: Rearranging, path: Path, fragment: Fragment) -> None:
    for shown, count in fragment.passed_by_path().items():
        below = f"/{shown}" if is_markup(path) else shown[1:]
        work.passed[format_path(path) + below] += count


def _parse_lines(texts: pa.Array, rows: Int64s, kernel: str, options: KernelOptions) -> Fragment:
    data = "\n".join(texts.take(pa.array(rows)).to_pylist()).encode()
    return emit(choose_kernel(kernel)(data, Separator.LINE, False, options))


def _rows_of_several(fragment: Fragment, texts: pa.Array, rows: Int64s) -> Int64s:
    """Return which texts held more than one record."""
    if fragment.record_count + len(fragment.faults) <= len(rows) and not fragment.faults:
        return np.empty(0, np.int64)
    lengths = pc.binary_length(texts.take(pa.array(rows))).to_numpy().astype(np.int64) + 1
    starts = np.cumsum(lengths) - lengths
    lines = np.searchsorted(starts, fragment.offsets, "right") - 1
    return rows[np.flatnonzero(np.bincount(lines, minlength=len(rows)) > 1)]


def _on_one_line(texts: pa.Array, rows: Int64s, good: Bools, reasons: dict[int, str]) -> pa.Array:
    """Return the texts with those in `rows`, which have line breaks, written on one line."""
    made = texts.to_pylist()
    for row in rows.tolist():
        reader = RecordReader(made[row].encode(), Separator.NOTHING, False, KernelOptions())
        values = [record.value for record in reader]
        if len(values) == 1 and not reader.faults:
            made[row] = json_text(values[0])
        else:
            good[row] = False
            reasons[row] = reader.faults[0].reason if reader.faults else "expected one JSON text, got several"
    return pa.array(made, pa.large_string())


_PARSERS: dict[str, Callable[[TextLane, Rearranging, Path], Parsed]] = {
    "json": _parse_json_texts,
    "xml": _parse_xml_texts,
}
