"""Tapes of what is in memory already: objects of Python, and matches of a path in documents."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import islice

import numpy as np

from tessaron.core.base.paths import Origin
from tessaron.core.cutting.selecting import Selection
from tessaron.core.tape.tape import Tape, known_of_records
from tessaron.engine.path_reading import Found

OBJECTS_AT_ONCE = 2_000
"""Python objects that make one tape."""


def tapes_of_objects(
    records: Iterator[object], with_origin: bool, selection: Selection | None
) -> Iterator[Tape]:
    """Yield the tapes of objects of Python, some thousand to each."""
    from tessaron.core.kernel.tape_builder import TapeBuilder

    while True:
        builder = TapeBuilder(selection)
        for record in islice(records, OBJECTS_AT_ONCE):
            builder.add(record)
        if not builder.record_count:
            return
        tape = builder.finish()
        if with_origin:
            _number(tape)
        yield tape


def _number(tape: Tape) -> None:
    """Say of each record which one of the tape it is; those before are counted where tapes are joined."""
    numbers = np.arange(1, tape.record_count + 1, dtype=np.int64)
    tape.origins.append(known_of_records(Origin.RECORD, tape.record_count, integers=numbers))


def tape_of_matches(matches: list[Found], with_origin: bool, selection: Selection | None) -> Tape:
    """Return the matches as records; the names of those that are members are keys."""
    from tessaron.core.kernel.tape_builder import TapeBuilder, add_text_origin

    builder = TapeBuilder(selection)
    for found in matches:
        builder.add(found.match.value)
    tape = builder.finish()
    add_text_origin(tape, Origin.KEY, [found.match.key for found in matches])
    if with_origin:
        add_text_origin(tape, Origin.FILE, [found.source for found in matches])
        _number(tape)
        lines = np.array([found.line or 0 for found in matches], np.int64)
        tape.origins.append(known_of_records(Origin.LINE, len(matches), integers=lines))
    return tape
