"""Joining tapes: those of many small chunks become one, so that what follows costs as for a large one."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np
import pyarrow as pa

from tessaron.core.base.paths import Origin
from tessaron.core.base.text_lane import TextLane
from tessaron.core.tape.fragment import Node
from tessaron.core.tape.record_places import RecordPlaces
from tessaron.core.tape.tape import TEXT_CODES, Tape, known_of_records

_HAS_TEXT = np.isin(np.arange(256), list(TEXT_CODES))
_UNKNOWN_LINE = 0


def join_tapes(tapes: Sequence[Tape]) -> Tape:
    """Return one tape with the records of all; faults and places in the chunks are not kept.

    Args:
        tapes: What is known of records beside their values is the same of all, or it is null.
    """
    if len(tapes) == 1:
        return tapes[0]
    steps: dict[bytes, int] = {}
    names, parents, values = [], [], []
    base = data_base = 0
    for tape in tapes:
        numbers = np.array([steps.setdefault(step, len(steps)) for step in tape.step_texts()], np.int32)
        own = np.frombuffer(tape.names, np.int32)
        names.append(np.where(own < 0, own, numbers[own]) if len(numbers) else own)
        above = np.frombuffer(tape.parents, np.int32)
        parents.append(np.where(above < 0, above, above + np.int32(base)))
        moved = np.frombuffer(tape.values, np.int64).copy()
        moved[_HAS_TEXT[np.frombuffer(tape.kinds, np.uint8)]] += data_base
        values.append(moved)
        base, data_base = base + len(tape.kinds), data_base + len(tape.data)
    joined = Tape(
        b"".join(tape.kinds for tape in tapes),
        np.concatenate(names).astype(np.int32).tobytes(),
        np.concatenate(parents).astype(np.int32).tobytes(),
        np.concatenate(values).tobytes(),
        b"".join(tape.data for tape in tapes),
        np.array(list(map(len, steps)), np.int64).tobytes(),
        b"".join(steps),
    )
    counts = [tape.record_count for tape in tapes]
    joined.origins = _joined_origins(tapes, counts)
    joined.places = _joined_places(tapes, counts)
    return joined


def _joined_origins(tapes: Sequence[Tape], counts: Sequence[int]) -> list[Node]:
    """Return what is known of the records of all tapes."""
    names = dict.fromkeys(node.name for tape in tapes for node in tape.origins)
    starts = np.cumsum(counts) - counts
    return [_joined_origin(str(name), tapes, starts.tolist(), sum(counts)) for name in names]


def _joined_origin(name: str, tapes: Sequence[Tape], starts: Sequence[int], total: int) -> Node:
    nodes = [
        (node, start)
        for tape, start in zip(tapes, starts, strict=True)
        for node in tape.origins
        if node.name == name
    ]
    rows = np.concatenate([node.rows_present() + np.int32(start) for node, start in nodes])
    lanes: dict[str, Any] = {}
    if any(len(node.texts) for node, _ in nodes):
        lanes["texts"] = TextLane.of(pa.concat_arrays([node.texts.to_arrow() for node, _ in nodes]))
    else:
        lanes["integers"] = np.concatenate([node.integers for node, _ in nodes])
    some = {} if len(rows) == total else {"rows": rows.astype(np.int32)}
    return known_of_records(Origin(name), total, **lanes, **some)


def _joined_places(tapes: Sequence[Tape], counts: Sequence[int]) -> RecordPlaces | None:
    if any(tape.places is None for tape in tapes):
        return None
    sources: list[str] = []
    lines = []
    for tape, count in zip(tapes, counts, strict=True):
        places = tape.places or RecordPlaces()
        sources += places.sources or (places.source,) * count
        lines.append(np.full(count, _UNKNOWN_LINE) if places.lines is None else places.lines)
    return RecordPlaces(sources[0] if sources else "", np.concatenate(lines), tuple(sources))


def with_records_before(tape: Tape, count: int) -> Tape:
    """Return the tape of records whose numbers go on after those of the same source before it."""
    if not count or all(node.name != Origin.RECORD.value for node in tape.origins):
        return tape
    origins = [
        replace(node, integers=node.integers + count) if node.name == Origin.RECORD.value else node
        for node in tape.origins
    ]
    return replace(tape, origins=origins)
