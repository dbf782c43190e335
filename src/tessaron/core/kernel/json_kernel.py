"""The JSON kernel in Python: the readable reference, built on `json` of the standard library."""

from __future__ import annotations

import numpy as np

from tessaron.core.faults import Repeated
from tessaron.core.fragment import Fragment
from tessaron.core.json_text import json_text
from tessaron.core.kernel.contract import KernelOptions, Separator
from tessaron.core.kernel.growing import FragmentBuilder
from tessaron.core.kernel.record_reader import RecordReader

DEFAULT_OPTIONS = KernelOptions()


def read_json(
    data: bytes, separator: Separator, continues: bool = False, options: KernelOptions = DEFAULT_OPTIONS
) -> Fragment:
    """Return the fragment of the JSON texts in `data`; see `contract.Kernel`."""
    builder = FragmentBuilder(options.selection, options.tells_halves)
    reader = RecordReader(data, separator, continues, options)
    offsets: list[int] = []
    repeated: list[Repeated] = []
    for record in reader:
        repeated += [Repeated(len(offsets), path, json_text(value)) for path, value in record.repeated]
        builder.add(record.value)
        offsets.append(record.byte_offset)
    fragment = builder.finish()
    fragment.faults = reader.faults
    fragment.repeated = repeated
    fragment.offsets = np.array(offsets, np.int64)
    return fragment
