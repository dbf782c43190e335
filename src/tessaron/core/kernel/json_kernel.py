"""The JSON kernel in Python: the readable reference, built on `json` of the standard library."""

from __future__ import annotations

import numpy as np

from tessaron.core.base.faults import Repeated
from tessaron.core.base.json_text import json_text
from tessaron.core.cutting.separator import Separator
from tessaron.core.kernel.contract import DEFAULT_OPTIONS, KernelOptions
from tessaron.core.kernel.record_reader import RecordReader
from tessaron.core.kernel.tape_builder import TapeBuilder
from tessaron.core.tape.tape import Tape


def read_json(
    data: bytes, separator: Separator, continues: bool = False, options: KernelOptions = DEFAULT_OPTIONS
) -> Tape:
    """Return the tape of the JSON texts in `data`; see `contract.Kernel`."""
    builder = TapeBuilder(options.selection, options.tells_halves)
    reader = RecordReader(data, separator, continues, options)
    offsets: list[int] = []
    repeated: list[Repeated] = []
    for record in reader:
        repeated += [Repeated(len(offsets), path, json_text(value)) for path, value in record.repeated]
        builder.add(record.value)
        offsets.append(record.byte_offset)
    tape = builder.finish()
    tape.faults = reader.faults
    tape.repeated = repeated
    tape.offsets = np.array(offsets, np.int64)
    return tape
