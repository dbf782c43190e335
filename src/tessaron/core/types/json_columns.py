"""Putting texts of JSON together, whole columns at a time: strings, objects, arrays."""

from __future__ import annotations

import re

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from tessaron.core.base.arrays import ArrowArray, array_of
from tessaron.core.base.json_text import quoted_text
from tessaron.core.base.paths import MARKUP, name_of_step
from tessaron.core.base.surrogates import read_halves
from tessaron.core.base.text_lane import Int64s, TextLane
from tessaron.core.types.told_texts import looks_told

_CONTROL = "[\x00-\x1f]"
_MOST_JOINED = 500
"""So many columns are joined at once; more are joined in steps."""


def text(value: str) -> ArrowArray:
    """Return a text as an Arrow scalar of the type that all texts have here."""
    return pa.scalar(value, pa.large_string())


def quoted(values: ArrowArray) -> ArrowArray:
    """Return texts as strings of JSON (RFC 8259 section 7), null where they are."""
    if not len(values):
        return values
    if not _may_need_escapes(values):
        return pc.binary_join_element_wise(text('"'), values, text('"'), text(""))
    if pc.any(pc.match_substring(values, "\\")).as_py():
        values = pc.replace_substring(values, "\\", "\\\\")
    if pc.any(pc.match_substring(values, '"')).as_py():
        values = pc.replace_substring(values, '"', '\\"')
    odd = pc.match_substring_regex(values, _CONTROL)
    if pc.any(odd).as_py():
        escaped = [
            None if each is None else re.sub(_CONTROL, _escape, each)
            for each in values.filter(odd).to_pylist()
        ]
        values = pc.replace_with_mask(values, odd, pa.array(escaped, pa.large_string()))
    return pc.binary_join_element_wise(text('"'), values, text('"'), text(""))


def _may_need_escapes(values: ArrowArray) -> bool:
    """Say whether any byte of the texts, or of those beside them in memory, is one that strings escape."""
    data = values.buffers()[2]
    letters = np.frombuffer(b"" if data is None else data, np.uint8)
    return bool((letters < ord(" ")).any() or (letters == ord('"')).any() or (letters == ord("\\")).any())


def _escape(found: re.Match[str]) -> str:
    return f"\\u{ord(found.group()):04x}"


def quoted_told(values: ArrowArray) -> ArrowArray:
    """Return texts of JSON whose half surrogates are told (see `surrogates`) as strings of JSON."""
    odd = looks_told(values) if len(values) else None
    made = quoted(values)
    if odd is None:
        return made
    told = [quoted_text(read_halves(each)) for each in values.filter(odd).to_pylist()]
    return pc.replace_with_mask(made, odd, pa.array(told, pa.large_string()))


def quoted_names(steps: ArrowArray) -> ArrowArray:
    """Return the names of members, given as the steps to them, as strings of JSON, null where they are."""
    if not pc.any(pc.match_substring(steps, MARKUP)).as_py():
        return quoted_told(steps)
    names = [None if step is None else quoted_text(name_of_step(step)) for step in steps.to_pylist()]
    return pa.array(names, pa.large_string())


BESIDE = MARKUP + "*"
"""Stands for the step to an object whose members stand beside those of the object it is in."""


def objects(members: list[tuple[str, ArrowArray]], row_count: int, closing: str = "}") -> ArrowArray:
    """Return objects of JSON, null for a row that has no member.

    Args:
        members: Steps to them, and for each row the member's value as JSON, or null where it has none. What
            has the step `BESIDE` is an object whose members stand beside the others.
        row_count: Rows.
        closing: What ends an object; more than the brace for whole lines.
    """
    members = [(step, _members_of(values) if step == BESIDE else values) for step, values in members]
    there = [(step, values) for step, values in members if values.null_count < len(values)]
    if not there:
        return pa.nulls(row_count, pa.large_string())
    heads = ["" if step == BESIDE else f"{quoted_text(name_of_step(step))}:" for step, _ in there]
    if not there[0][1].null_count:
        # All rows have something: what is there in each goes in without a copy of its own.
        heads = ["{" + heads[0], *(f",{head}" for head in heads[1:])]
        pairs = [_pair(head, values) for head, (_, values) in zip(heads, there, strict=True)]
        return side_by_side([*(part for pair in pairs for part in pair), text(closing)])
    joined = side_by_side(
        [_paired("," + head, values) for head, (_, values) in zip(heads, there, strict=True)]
    )
    whole = pc.binary_join_element_wise(pc.utf8_replace_slice(joined, 0, 1, "{"), text(closing), text(""))
    return pc.if_else(pc.greater(pc.binary_length(joined), 0), whole, text_null())


def _members_of(objects: ArrowArray) -> ArrowArray:
    """Return the text between the braces of objects, null where nothing is there."""
    inside = pc.utf8_slice_codeunits(objects, 1, -1)
    return pc.if_else(pc.greater(pc.binary_length(inside), 0), inside, text_null())


def _pair(head: str, values: ArrowArray) -> list[ArrowArray]:
    return [_paired(head, values)] if values.null_count else [text(head), values]


def _paired(head: str, values: ArrowArray) -> ArrowArray:
    """Return values behind a head, null where they are."""
    return pc.binary_join_element_wise(text(head), values, text(""))


def side_by_side(parts: list[ArrowArray]) -> ArrowArray:
    """Return texts joined without anything between; null counts as empty."""
    # Arrow's way of skipping nulls leaves out the rows in which all are null.
    while len(parts) > 1:
        group, parts = parts[:_MOST_JOINED], parts[_MOST_JOINED:]
        made = pc.binary_join_element_wise(*group, text(""), null_handling="replace", null_replacement="")
        parts = [made, *parts]
    return pc.fill_null(parts[0], "")


def text_null() -> ArrowArray:
    """Return no text, as an Arrow scalar."""
    return pa.scalar(None, pa.large_string())


def entries(keys: ArrowArray, values: ArrowArray) -> ArrowArray:
    """Return members of objects whose names are data: `"key":value`."""
    return pc.binary_join_element_wise(quoted_names(keys), values, text(":"))


def grouped(
    values: ArrowArray, above: Int64s, row_count: int, opening: str, closing: str, between: str
) -> ArrowArray:
    """Return for each row above what stands below it, as one text; null where nothing does.

    Args:
        values: Texts without nulls, those of one row above side by side.
        above: The row above of each, from 0 and never falling.
        row_count: Rows above.
        opening: What stands before the first.
        closing: What stands behind the last.
        between: What stands between two.
    """
    if not len(values):
        return pa.nulls(row_count, pa.large_string())
    rows, whole = grouped_at(values, above, opening, closing, between)
    places = np.full(row_count, -1, np.int64)
    places[rows] = np.arange(len(rows))
    return whole.take(pa.array(places, mask=places < 0))


def grouped_at(
    values: ArrowArray, above: Int64s, opening: str, closing: str, between: str
) -> tuple[Int64s, ArrowArray]:
    """Return the rows above that have something below, and what stands below each as one text.

    Args:
        values: As in `grouped`, at least one.
        above: As in `grouped`.
        opening: As in `grouped`.
        closing: As in `grouped`.
        between: As in `grouped`.
    """
    is_first = np.ones(len(above), np.bool_)
    is_first[1:] = above[1:] != above[:-1]
    is_last = np.ones(len(above), np.bool_)
    is_last[:-1] = is_first[1:]
    parts = [pc.if_else(pa.array(is_first), text(opening), text(between)), values]
    parts += [pc.if_else(pa.array(is_last), text(closing), text(""))] if closing else []
    # What belongs together stands side by side now: only the bounds have to be taken.
    lane = TextLane.of(pc.binary_join_element_wise(*parts, text("")))
    starts = np.flatnonzero(is_first)
    bounds = lane.offsets[np.append(starts, len(above))]
    return above[starts], TextLane(np.ascontiguousarray(bounds), lane.data).to_arrow()


def objects_at(members: list[tuple[str, Int64s, ArrowArray]]) -> tuple[Int64s, ArrowArray]:
    """Return the rows that have any of some members, and for each an object of JSON of those it has.

    The cost follows the members that are there, not the rows.

    Args:
        members: Steps to them, the rows that have each, and its value there as JSON.
    """
    heads = pa.array([f"{quoted_text(name_of_step(step))}:" for step, _, _ in members], pa.large_string())
    counts = [len(rows) for _, rows, _ in members]
    rows = np.concatenate([rows for _, rows, _ in members])
    own_heads = heads.take(array_of(np.repeat(np.arange(len(members)), counts)))
    values = pa.concat_arrays([values for _, _, values in members])
    order = np.argsort(rows, kind="stable")
    pairs = pc.binary_join_element_wise(own_heads, values, text("")).take(array_of(order))
    return grouped_at(pairs, rows[order], "{", "}", ",")


def coalesced(first: ArrowArray, *others: ArrowArray) -> ArrowArray:
    """Return for each row the first of several texts that is not null."""
    for other in others:
        if first.null_count == 0:
            return first
        first = pc.coalesce(first, other)
    return first
