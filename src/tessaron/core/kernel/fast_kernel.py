"""The compiled JSON kernel: the same contract as `json_kernel`, with `_fastjson` doing the parsing."""

from __future__ import annotations

from collections.abc import Callable
from itertools import accumulate, pairwise
from typing import Any

import numpy as np

from tessaron.core.faults import Repeated
from tessaron.core.fragment import EMPTY_TEXTS, Fragment, Int32s, Node, Passed, Role, TextLane
from tessaron.core.json_text import json_text
from tessaron.core.kernel import _fastjson
from tessaron.core.kernel.contract import MEMBER_LIMIT, KernelOptions, Separator
from tessaron.core.kernel.json_kernel import DEFAULT_OPTIONS
from tessaron.core.kernel.record_reader import RecordReader
from tessaron.core.kinds import Kind
from tessaron.core.paths import ELEMENT, ENTRY, Origin, Step
from tessaron.core.selecting import Selection

_SEPARATORS = {Separator.LINE: 0, Separator.COMMA: 1, Separator.NOTHING: 2}
_LANES = (
    ("parent_rows", np.int32),
    ("ordinals", np.int32),
    ("rows", np.int32),
    ("kinds", np.uint8),
    ("positions", np.int32),
    ("booleans", np.bool_),
    ("integers", np.int64),
    ("raw_rows", np.int32),
)
_TEXT_LANES = ("numbers", "texts", "keys", "raws")
_AS_ENTRY = 8
"""The flag of a member that is wanted as an entry of a dictionary, not by its name."""


def read_json_fast(
    data: bytes, separator: Separator, continues: bool = False, options: KernelOptions = DEFAULT_OPTIONS
) -> Fragment:
    """Return the fragment of the JSON texts in `data`; see `contract.Kernel`."""
    made = _parse(data, separator, continues, options)
    if made is None:
        return _read_carefully(data, separator, continues, options)
    return made


def _parse(data: bytes, separator: Separator, continues: bool, options: KernelOptions) -> Fragment | None:
    """Return the fragment; None when a record is bad or has a name twice in one object."""
    ask = None if options.selection is None else _asking(options.selection)
    lanes = _fastjson.parse(
        data,
        _SEPARATORS[separator],
        int(continues),
        MEMBER_LIMIT,
        options.depth_limit,
        ask,
        options.tells_halves,
    )
    if lanes is None:
        return None
    fragment = fragment_of_lanes(lanes)
    return None if any(map(_repeats_keys, fragment.nodes)) else fragment


def _read_carefully(data: bytes, separator: Separator, continues: bool, options: KernelOptions) -> Fragment:
    """Read a chunk that is not plainly good: parse what remains when the bad records are taken out."""
    reader = RecordReader(data, separator, continues, options)
    texts: list[str] = []
    offsets: list[int] = []
    repeated: list[Repeated] = []
    for record in reader:
        repeated += [Repeated(len(texts), path, json_text(value)) for path, value in record.repeated]
        texts.append(json_text(record.value))
        offsets.append(record.byte_offset)
    fragment = _parse("\n".join(texts).encode(), Separator.LINE, False, options)
    assert fragment is not None
    fragment.faults = reader.faults
    fragment.repeated = repeated
    fragment.offsets = np.array(offsets, np.int64)
    return fragment


def fragment_of_lanes(lanes: dict[str, Any]) -> Fragment:
    """Return the fragment whose lanes the compiled code has collected."""
    columns: dict[str, list[Any]] = {}
    for name, kind in _LANES:
        values = np.frombuffer(lanes[name], kind)
        columns[name] = [values[start:stop] for start, stop in _slices(lanes, name)]
    for name in _TEXT_LANES:
        lengths = np.frombuffer(lanes[name], np.int64)
        offsets = np.zeros(len(lengths) + 1, np.int64)
        np.cumsum(lengths, out=offsets[1:])
        whole = TextLane(offsets, np.frombuffer(lanes[f"{name}_data"], np.uint8))
        columns[name] = [
            whole.slice(start, stop) if stop > start else EMPTY_TEXTS for start, stop in _slices(lanes, name)
        ]
    raw_rows, raws = columns.pop("raw_rows"), columns.pop("raws")
    nodes: list[Node] = []
    places: list[int] = []
    passed: list[Passed] = []
    texts: list[Node] = []
    for index, (parent, role, name, row_count, in_every_row, count, wanted) in enumerate(lanes["heads"]):
        above = places[parent] if parent >= 0 else -1
        places.append(len(nodes))
        if count:
            is_inside = not wanted & ~_AS_ENTRY
            passed.append(Passed(above if is_inside else len(nodes), name, Role(role), count, is_inside))
        if not wanted and parent >= 0:
            continue
        values_of = {lane: slices[index] for lane, slices in columns.items()}
        if in_every_row:
            values_of["rows"] = None
        nodes.append(Node(above, Role(role), name, row_count, **values_of))
        if len(raw_rows[index]):
            texts.append(raw_node(places[index], row_count, raw_rows[index], raws[index]))
    offsets = np.frombuffer(lanes["offsets"], np.int64)
    return Fragment([*nodes, *texts], offsets=offsets, passed=passed)


def raw_node(parent: int, row_count: int, rows: Int32s, texts: TextLane) -> Node:
    """Return the node with the JSON text of what stands at another."""
    kinds = np.full(len(rows), Kind.TEXT, np.uint8)
    some = None if len(rows) == row_count else rows
    return Node(parent, Role.ORIGIN, Origin.JSON.value, row_count, rows=some, kinds=kinds, texts=texts)


def _asking(selection: Selection) -> Callable[[int, int, int, str], tuple[int, int]]:
    """Return what the parser calls for each new node: its place in the selection, and what is wanted."""

    def ask(place: int, is_record: int, role: int, name: str) -> tuple[int, int]:
        if is_record:
            return 0, selection.wanted(0)
        step: Step = name if role == Role.MEMBER else _STEPS[role]
        found = selection.step(place, step)
        if found < 0:
            return -1, 0
        is_entry = role == Role.MEMBER and found == selection.step(place, ENTRY)
        return found, selection.wanted(found) | (_AS_ENTRY if is_entry else 0)

    return ask


_STEPS: dict[int, Step] = {int(Role.ELEMENT): ELEMENT, int(Role.ENTRY): ENTRY}


def _slices(lanes: dict[str, Any], name: str) -> Any:
    counts = np.frombuffer(lanes[f"{name}_counts"], np.int64).tolist()
    return pairwise(accumulate(counts, initial=0))


def _repeats_keys(node: Node) -> bool:
    """Say whether an object of an entry node has a key twice."""
    if node.role is not Role.ENTRY:
        return False
    codes = node.keys.to_arrow().dictionary_encode().indices.to_numpy().astype(np.int64)
    pairs = node.parent_rows.astype(np.int64) * (int(codes.max()) + 1) + codes
    pairs.sort()
    return bool((pairs[1:] == pairs[:-1]).any())
