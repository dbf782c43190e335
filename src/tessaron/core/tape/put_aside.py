"""What is put aside while the structure is learnt: a tape, or a fragment that a layout has changed."""

from __future__ import annotations

import pickle
from collections.abc import Sequence

from tessaron.core.tape.fragment import Fragment
from tessaron.core.tape.tape import Tape

Packed = Sequence[bytes | memoryview]
"""What was put aside: what is small, and the arrays one by one, which are not copied."""


def pack(read: Tape | Fragment) -> Packed:
    """Return the values of a chunk as bytes; faults are not kept."""
    buffers: list[pickle.PickleBuffer] = []
    if isinstance(read, Fragment):
        kept = (read.nodes, read.places)
        head = pickle.dumps(kept, protocol=5, buffer_callback=buffers.append)
    else:
        arrays = [pickle.PickleBuffer(array) for array in read.arrays()]
        rest = (arrays, read.origins, read.places)
        head = pickle.dumps(rest, protocol=5, buffer_callback=buffers.append)
    return [head, *(buffer.raw() for buffer in buffers)]


def unpack(packed: Packed) -> Tape | Fragment:
    """Return what `pack` made bytes of; it shares their memory."""
    first, *rest = pickle.loads(packed[0], buffers=packed[1:])
    if len(rest) == 1:
        return Fragment(first, places=rest[0])
    tape = Tape(*first)
    tape.origins, tape.places = rest
    return tape
