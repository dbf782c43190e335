"""The tape: the values of a chunk in the order of the document, as plain arrays, still untyped."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from enum import IntEnum
from itertools import accumulate, pairwise
from typing import Any

import numpy as np

from tessaron.core.base.faults import Fault, Repeated
from tessaron.core.base.kinds import Kind
from tessaron.core.base.paths import Origin
from tessaron.core.base.text_lane import Int64s, TextLane
from tessaron.core.tape.fragment import Node
from tessaron.core.tape.record_places import RecordPlaces

MEMBER_LIMIT = 256
"""So many names of one object are told apart while it is read; with more of them they may be data."""
NO_NAME = -1
"""Stands for a name where there is none: at records and elements."""


class Mark(IntEnum):
    """What may stand on a tape besides values; the codes go on after those of `Kind`."""

    PASSED = 8
    """A value that is not wanted, with all that stands in it."""
    RAW = 9
    """The text of all that stands at the value just before, which it stands in."""
    HOLE = 10
    """A place that is taken, without a value."""
    ORDER = 11
    """How the parts of the element of XML that it stands in follow each other."""


TEXT_CODES = frozenset((Kind.LONG_INTEGER, Kind.FRACTION, Kind.TEXT, Mark.RAW, Mark.ORDER))
"""The codes of what has a text of its own on the tape."""


@dataclass(slots=True)
class Tape:
    """The values of a chunk, each after the one it stands in.

    Attributes:
        kinds: A code of `Kind` or `Mark` for each value, as unsigned bytes.
        names: For each the number of its name among the steps; `NO_NAME` for records and elements. 32 bits.
        parents: For each the place on the tape of the object or array it stands in; -1 for records. 32 bits.
        values: For each the integer or boolean, or where its text stands in `data`: where it begins in the
            lower and how long it is in the higher 32 bits. 64 bits.
        data: The bytes of all texts, and of numbers that keep the digits of their text.
        step_sizes: The length of each step, in bytes. 64 bits.
        step_data: The steps to members (see `paths.step_of_name`) as UTF-8, one after the other.
        offsets: Where each record begins in the chunk, in bytes from 0; empty when it was not bytes.
        faults: The records that could not be read, in order of their place.
        repeated: Names that stood twice in one object.
        origins: What is known of the records besides their values.
        element_names: The names of the records' elements, where an expression over whole documents has found
            them.
        places: Where the records stand, if that is wanted.
        run_counts: For XML: how many of the records each run of the chunk has.
        left_out: How many comments and instructions of XML were left out, by what XPath calls them.
    """

    kinds: bytes
    names: bytes
    parents: bytes
    values: bytes
    data: bytes
    step_sizes: bytes
    step_data: bytes
    offsets: Int64s = field(default_factory=lambda: np.empty(0, np.int64))
    faults: list[Fault] = field(default_factory=list)
    repeated: list[Repeated] = field(default_factory=list)
    origins: list[Node] = field(default_factory=list)
    element_names: list[str] = field(default_factory=list)
    places: RecordPlaces | None = None
    run_counts: list[int] = field(default_factory=list)
    left_out: dict[str, int] = field(default_factory=dict)
    _counted: int | None = None

    @classmethod
    def of_lanes(cls, lanes: dict[str, Any]) -> Tape:
        """Return the tape that the compiled code has written."""
        tape = cls(*(lanes[name] for name in _ARRAYS))
        tape.offsets = np.frombuffer(lanes["offsets"], np.int64)
        return tape

    def arrays(self) -> tuple[bytes, ...]:
        """Return what the compiled passes read."""
        return tuple(getattr(self, name) for name in _ARRAYS)

    @property
    def record_count(self) -> int:
        """Records that could be read."""
        if self._counted is None:
            self._counted = int((np.frombuffer(self.parents, np.int32) < 0).sum())
        return self._counted

    def step_texts(self) -> list[bytes]:
        """Return all steps as UTF-8, by their number."""
        ends = accumulate(np.frombuffer(self.step_sizes, np.int64).tolist(), initial=0)
        data = bytes(self.step_data)
        return [data[start:stop] for start, stop in pairwise(ends)]

    def steps(self) -> list[str]:
        """Return all steps, by their number."""
        return [text.decode() for text in self.step_texts()]

    @property
    def step_count(self) -> int:
        """How many different steps there are."""
        return len(self.step_sizes) // 8

    @property
    def byte_count(self) -> int:
        """The bytes of its arrays."""
        return sum(map(len, self.arrays()))

    def texts(self, places: Sequence[int] | Int64s) -> TextLane:
        """Return the texts of some values, by their places on the tape."""
        where = np.frombuffer(self.values, np.uint64)[np.asarray(places, np.int64)]
        starts, sizes = (
            (where & np.uint64(2**32 - 1)).astype(np.int64),
            (where >> np.uint64(32)).astype(np.int64),
        )
        return gathered(np.frombuffer(self.data, np.uint8), starts, sizes)


_ARRAYS = ("kinds", "names", "parents", "values", "data", "step_sizes", "step_data")


def gathered(data: Any, starts: Int64s, sizes: Int64s) -> TextLane:
    """Return the texts that begin at `starts` in `data`, so long as `sizes` say, as a lane of their own."""
    offsets = np.zeros(len(sizes) + 1, np.int64)
    np.cumsum(sizes, out=offsets[1:])
    inside = np.arange(offsets[-1]) - np.repeat(offsets[:-1] - starts, sizes)
    return TextLane(offsets, data[inside])


def known_of_records(name: Origin, count: int, **lanes: Any) -> Node:
    """Return the node of something that is known of the records, for `Tape.origins`."""
    from tessaron.core.tape.branches import origin

    return replace(origin(name, count, **lanes).node, parent=0)


def members_as_records(tape: Tape) -> Tape:
    """Return the tape of one object with its members as records, whose names are their keys."""
    names, parents = (
        np.frombuffer(tape.names, np.int32)[1:].copy(),
        np.frombuffer(tape.parents, np.int32)[1:] - 1,
    )
    tops = parents < 0
    texts = gathered(
        np.frombuffer(tape.step_data, np.uint8), *_places_of_steps(tape, names[tops].astype(np.int64))
    )
    names[tops] = NO_NAME
    made = replace(
        tape,
        kinds=tape.kinds[1:],
        names=names.tobytes(),
        parents=parents.astype(np.int32).tobytes(),
        values=tape.values[8:],
        offsets=np.empty(0, np.int64),
        _counted=None,
    )
    if len(texts):
        made.origins = [known_of_records(Origin.KEY, len(texts), texts=texts)]
    return made


def _places_of_steps(tape: Tape, numbers: Int64s) -> tuple[Int64s, Int64s]:
    sizes = np.frombuffer(tape.step_sizes, np.int64)
    starts = np.cumsum(sizes) - sizes
    return starts[numbers], sizes[numbers]
