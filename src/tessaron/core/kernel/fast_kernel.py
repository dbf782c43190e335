"""The compiled JSON kernel: the same contract as `json_kernel`, with `_fastjson` doing the parsing."""

from __future__ import annotations

from itertools import accumulate, pairwise
from typing import Any

import numpy as np

from tessaron.core.faults import Repeated
from tessaron.core.fragment import EMPTY_TEXTS, Fragment, Node, Role, TextLane
from tessaron.core.json_text import json_text
from tessaron.core.kernel import _fastjson
from tessaron.core.kernel.contract import MEMBER_LIMIT, KernelOptions, Separator
from tessaron.core.kernel.json_kernel import DEFAULT_OPTIONS
from tessaron.core.kernel.record_reader import RecordReader

_SEPARATORS = {Separator.LINE: 0, Separator.COMMA: 1, Separator.NOTHING: 2}
_LANES = (
    ("parent_rows", np.int32),
    ("ordinals", np.int32),
    ("rows", np.int32),
    ("kinds", np.uint8),
    ("positions", np.int32),
    ("booleans", np.bool_),
    ("integers", np.int64),
)
_TEXT_LANES = ("numbers", "texts", "keys")


def read_json_fast(
    data: bytes, separator: Separator, continues: bool = False, options: KernelOptions = DEFAULT_OPTIONS
) -> Fragment:
    """Return the fragment of the JSON texts in `data`; see `contract.Kernel`."""
    made = _parse(data, separator, continues, options.depth_limit)
    if made is None:
        return _read_carefully(data, separator, continues, options)
    return made


def _parse(data: bytes, separator: Separator, continues: bool, depth_limit: int) -> Fragment | None:
    """Return the fragment; None when a record is bad or has a name twice in one object."""
    lanes = _fastjson.parse(data, _SEPARATORS[separator], int(continues), MEMBER_LIMIT, depth_limit)
    if lanes is None:
        return None
    fragment = _fragment(lanes)
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
    fragment = _parse("\n".join(texts).encode(), Separator.LINE, False, options.depth_limit)
    assert fragment is not None
    fragment.faults = reader.faults
    fragment.repeated = repeated
    fragment.offsets = np.array(offsets, np.int64)
    return fragment


def _fragment(lanes: dict[str, Any]) -> Fragment:
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
    nodes = []
    for index, (parent, role, name, row_count, in_every_row) in enumerate(lanes["heads"]):
        values_of = {lane: slices[index] for lane, slices in columns.items()}
        if in_every_row:
            values_of["rows"] = None
        nodes.append(Node(parent, Role(role), name, row_count, **values_of))
    return Fragment(nodes, offsets=np.frombuffer(lanes["offsets"], np.int64))


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
