"""The compiled JSON kernel: the same contract as `json_kernel`, with `_fastjson` doing the parsing."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np

from tessaron.core.base.faults import Fault, Repeated
from tessaron.core.base.json_text import json_text
from tessaron.core.base.paths import ELEMENT
from tessaron.core.compiled import _fastjson
from tessaron.core.cutting.selecting import Selection
from tessaron.core.cutting.separator import Separator
from tessaron.core.kernel.contract import DEFAULT_OPTIONS, KernelOptions
from tessaron.core.tape.joining import join_tapes
from tessaron.core.tape.tape import Tape

_FEW_BYTES = 16 * 1024
"""So many bytes are read carefully at once, where a record in them is bad."""
_SEPARATORS = {Separator.LINE: 0, Separator.COMMA: 1, Separator.NOTHING: 2}


def read_json_fast(
    data: bytes, separator: Separator, continues: bool = False, options: KernelOptions = DEFAULT_OPTIONS
) -> Tape:
    """Return the tape of the JSON texts in `data`; see `contract.Kernel`."""
    made = _parse(data, separator, continues, options)
    if made is not None:
        return made
    if separator is Separator.LINE:
        return _read_in_halves(data, options)
    return _read_carefully(data, separator, continues, options)


def _read_in_halves(data: bytes, options: KernelOptions) -> Tape:
    """Read lines of which some are bad, so that few of those that are good are read with them."""
    parts: list[tuple[int, Tape]] = []
    pending = [(0, len(data))]
    while pending:
        start, stop = pending.pop()
        # The whole was tried already.
        tape = _parse(data[start:stop], Separator.LINE, False, options) if stop - start < len(data) else None
        middle = data.find(b"\n", (start + stop) // 2, stop) + 1
        if tape is not None:
            parts.append((start, tape))
        elif stop - start <= _FEW_BYTES or not start < middle < stop:
            parts.append((start, _read_carefully(data[start:stop], Separator.LINE, False, options)))
        else:
            pending += [(middle, stop), (start, middle)]
    return _together(parts)


def _together(parts: list[tuple[int, Tape]]) -> Tape:
    """Return the tapes of parts of a chunk as that of the chunk; each is given with where its part begins."""
    joined = join_tapes([tape for _, tape in parts])
    made = replace(
        joined,
        offsets=np.concatenate([tape.offsets + start for start, tape in parts]),
        faults=[],
        repeated=[],
    )
    good = read = 0
    for start, tape in parts:
        made.faults += [_moved(fault, start, read) for fault in tape.faults]
        made.repeated += [replace(each, record=each.record + good) for each in tape.repeated]
        good += tape.record_count
        read += tape.record_count + len(tape.faults)
    return made


def _moved(fault: Fault, start: int, records: int) -> Fault:
    """Return a fault as seen from the chunk: its part begins at `start`, so many records are before it."""
    return replace(
        fault,
        byte_offset=fault.byte_offset + start,
        record=fault.record + records,
        start=fault.start + start if fault.start >= 0 else -1,
        stop=fault.stop + start if fault.stop >= 0 else -1,
    )


def _parse(data: bytes, separator: Separator, continues: bool, options: KernelOptions) -> Tape | None:
    """Return the tape; None when a record is bad or has a name twice in one object."""
    ask = None if options.selection is None else _asking(options.selection)
    lanes = _fastjson.parse(
        data, _SEPARATORS[separator], int(continues), options.depth_limit, ask, options.tells_halves
    )
    return None if lanes is None else Tape.of_lanes(lanes)


def _read_carefully(data: bytes, separator: Separator, continues: bool, options: KernelOptions) -> Tape:
    """Read a chunk that is not plainly good: parse what remains when the bad records are taken out."""
    from tessaron.core.kernel.record_reader import RecordReader

    reader = RecordReader(data, separator, continues, options)
    texts: list[str] = []
    offsets: list[int] = []
    repeated: list[Repeated] = []
    for record in reader:
        repeated += [Repeated(len(texts), path, json_text(value)) for path, value in record.repeated]
        texts.append(json_text(record.value))
        offsets.append(record.byte_offset)
    tape = _parse("\n".join(texts).encode(), Separator.LINE, False, options)
    assert tape is not None
    tape.faults = reader.faults
    tape.repeated = repeated
    tape.offsets = np.array(offsets, np.int64)
    return tape


def _asking(selection: Selection) -> Callable[[int, str | bool | None], tuple[int, int]]:
    """Return what the parser calls for each new place: its place in the selection, and what is wanted."""

    def ask(place: int, step: str | bool | None) -> tuple[int, int]:
        if step is True:
            return 0, selection.wanted(0)
        found = selection.step(place, ELEMENT if step is None else str(step))
        return (-1, 0) if found < 0 else (found, selection.wanted(found))

    return ask
