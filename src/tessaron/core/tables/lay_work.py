"""The work on one chunk when the layout is given: parsed and turned into rows at once, by any thread."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np

from tessaron.core.base.faults import MOST_RAW_BYTES, Fault, Repeated
from tessaron.core.cutting.json_splitting import Chunk
from tessaron.core.kernel.chunk_reading import ReadTask, read_tape, repeated_offsets
from tessaron.core.plan.plan import LayingPlan
from tessaron.core.plan.typed_wants import wanted_columns
from tessaron.core.shape.shape_form import form_of
from tessaron.core.tables.laid import Laid
from tessaron.core.tables.laying import lay
from tessaron.core.tables.problems import Told
from tessaron.core.tape.emission import emit
from tessaron.core.tape.form import Form
from tessaron.core.tape.fragment import Fragment
from tessaron.core.tape.put_aside import Packed, unpack
from tessaron.core.tape.tape import Tape
from tessaron.core.tape.typed_columns import WantedColumn

if TYPE_CHECKING:
    from tessaron.core.cutting.xml_chunks import XmlChunk


@dataclass(frozen=True, slots=True)
class CasePlace:
    """Where the record of a case stands: its line and byte in the source, for XML more; and what it is."""

    line: int
    byte_offset: int
    source: str = ""
    record: int | None = None
    raw: bytes | None = None


@dataclass(slots=True)
class LaidResult:
    """What became of a chunk.

    Attributes:
        laid: What `lay` found.
        record_count: Records that could be read.
        faults, repeated, offsets, is_cut: As in `engine.feeds.ReadResult`.
        places: Where the records of problems stand, by record.
        run_counts: As in `engine.feeds.ReadResult`.
        digests: What decides which rows repeat others, where somebody else has added that.
    """

    laid: Laid
    record_count: int
    faults: list[Fault] = field(default_factory=list)
    repeated: list[Repeated] = field(default_factory=list)
    offsets: list[int] = field(default_factory=list)
    is_cut: bool = False
    places: dict[int, CasePlace] = field(default_factory=dict)
    run_counts: list[int] = field(default_factory=list)
    digests: Any = None


@dataclass
class LayWork:
    """Turns tasks into rows of a layout.

    Attributes:
        plan: The layout.
        kernel: The kernel for texts that hold documents.
        with_records: Whether it is wanted which record each row is of.
    """

    plan: LayingPlan
    kernel: str = "auto"
    with_records: bool = False

    def __call__(self, task: ReadTask | Packed) -> LaidResult:
        """Return what becomes of a chunk, or of what was put aside."""
        if not isinstance(task, ReadTask):
            read = unpack(task)
            assert isinstance(read, Tape)
            return self.of(read)
        tape, is_cut = read_tape(task)
        result = self.of(tape)
        result.is_cut = is_cut
        result.run_counts = tape.run_counts
        if isinstance(task.chunk, Chunk):
            result.places = _places(result.laid.problems, task.chunk, tape)
        else:
            result.places = _xml_places(result.laid.problems, task.chunk, tape)
        return result

    def of(self, tape: Tape) -> LaidResult:
        """Return what becomes of a tape."""
        wanted = self._wanted
        fragment = emit(tape, self._form, self.kernel != "python", tuple(wanted.values()))
        made = zip(wanted, fragment.columns, strict=True)
        return self._lay(fragment, {key: column for key, column in made if column is not None})

    @cached_property
    def _form(self) -> Form:
        """The form that the layout wants, as far as no change of structure comes before."""
        form = form_of(self.plan.skeleton)
        return form.dictionaries_only() if self.plan.rearrangements else form

    @cached_property
    def _wanted(self) -> Mapping[Any, WantedColumn]:
        """The columns that emission is to type, by their `fit_key`."""
        return {} if self.plan.rearrangements else wanted_columns(self.plan, self._form)

    def _lay(self, fragment: Fragment, typed: Mapping[Any, Any] | None = None) -> LaidResult:
        laid = lay(fragment, self.plan, self.kernel, self.with_records, typed)
        return LaidResult(
            laid, fragment.record_count, fragment.faults, fragment.repeated, repeated_offsets(fragment)
        )


def _xml_places(problems: list[Told], chunk: XmlChunk, tape: Tape) -> dict[int, CasePlace]:
    found = {}
    offsets = tape.offsets
    for record in sorted({case.record for problem in problems for case in problem.cases}):
        at = int(offsets[record])
        name = chunk.run_of(at).name
        raw = _raw(chunk.data, tape, record)
        found[record] = CasePlace(chunk.line_of(at), chunk.byte_of(at), name, chunk.record_of(at), raw)
    return found


def _places(problems: list[Told], chunk: Chunk, tape: Tape) -> dict[int, CasePlace]:
    """Return where the records of the cases stand; nothing where that is not known."""
    offsets = tape.offsets
    records = sorted({case.record for problem in problems for case in problem.cases})
    if not records or len(offsets) <= records[-1]:
        return {}
    breaks = np.flatnonzero(np.frombuffer(chunk.data, np.uint8) == ord("\n"))
    lines = np.searchsorted(breaks, offsets[records])
    return {
        record: CasePlace(
            chunk.line + int(line),
            chunk.byte_offset + int(offsets[record]),
            raw=_raw(chunk.data, tape, record),
        )
        for record, line in zip(records, lines, strict=True)
    }


def _raw(data: bytes, tape: Tape, record: int) -> bytes:
    """Return a record as it stands in the chunk, or its first part; it ends where the next begins."""
    offsets = tape.offsets
    start = int(offsets[record])
    stop = int(offsets[record + 1]) if record + 1 < len(offsets) else len(data)
    stop = min([stop, *(fault.start for fault in tape.faults if fault.start > start)])
    return data[start : min(stop, start + MOST_RAW_BYTES + 1)]
