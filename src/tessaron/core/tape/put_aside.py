"""What is put aside while the structure is learnt: a tape, or a fragment that a layout has changed."""

from __future__ import annotations

import pickle

from tessaron.core.fragment import Fragment, pack_fragment, unpack_fragment
from tessaron.core.shape import ShapeNode
from tessaron.core.tape.emission import emit
from tessaron.core.tape.form import Form
from tessaron.core.tape.tape import Tape


def pack(read: Tape | Fragment) -> bytes:
    """Return the values of a chunk as bytes; faults are not kept."""
    if isinstance(read, Fragment):
        return pickle.dumps((pack_fragment(read), read.places), protocol=5)
    return pickle.dumps((read.arrays(), read.origins, read.places), protocol=5)


def unpack(packed: bytes) -> Tape | Fragment:
    """Return what `pack` made bytes of."""
    first, *rest = pickle.loads(packed)
    if isinstance(first, bytes):
        fragment = unpack_fragment(first)
        fragment.places = rest[0]
        return fragment
    tape = Tape(*first)
    tape.origins, tape.places = rest
    return tape


def fragment_in_form(packed: bytes, record: ShapeNode, form: Form) -> Fragment:
    """Return what was put aside as columns.

    Args:
        packed: What `pack` returned.
        record: The structure that the columns shall have; see `conform`.
        form: Its form.
    """
    read = unpack(packed)
    if isinstance(read, Tape):
        return emit(read, form)
    from tessaron.core.conform import conform

    return conform(read, record)
