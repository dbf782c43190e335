"""The compiled JSON kernel: the same contract as `json_kernel`, with `_fastjson` doing the parsing."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from tessaron.core.base.faults import Repeated
from tessaron.core.base.json_text import json_text
from tessaron.core.base.paths import ELEMENT
from tessaron.core.compiled import _fastjson
from tessaron.core.cutting.selecting import Selection
from tessaron.core.cutting.separator import Separator
from tessaron.core.kernel.contract import DEFAULT_OPTIONS, KernelOptions
from tessaron.core.tape.tape import Tape

_SEPARATORS = {Separator.LINE: 0, Separator.COMMA: 1, Separator.NOTHING: 2}


def read_json_fast(
    data: bytes, separator: Separator, continues: bool = False, options: KernelOptions = DEFAULT_OPTIONS
) -> Tape:
    """Return the tape of the JSON texts in `data`; see `contract.Kernel`."""
    made = _parse(data, separator, continues, options)
    if made is None:
        return _read_carefully(data, separator, continues, options)
    return made


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
