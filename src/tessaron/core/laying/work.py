"""The work on one chunk when the layout is given: parsed and turned into rows at once, by any process."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import pyarrow as pa

from tessaron.core.faults import MOST_RAW_BYTES, Fault, Repeated
from tessaron.core.fragment import Fragment, unpack_fragment
from tessaron.core.laying.emitting import Laid, lay
from tessaron.core.laying.plan import LayingPlan
from tessaron.core.laying.problems import Told
from tessaron.core.splitting import Chunk
from tessaron.core.work import ReadTask, RowsTask, read_fragment, repeated_offsets, with_records_before
from tessaron.core.xml.chunks import XmlChunk


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
    """What became of a chunk, ready to be sent.

    Attributes:
        packed: The rows of each written table, as packed record batches.
        laid: All else that `lay` found; its batches are empty until they are unpacked.
        record_count: Records that could be read.
        faults, repeated, offsets, is_cut: As in `work.ReadResult`.
        places: Where the records of problems stand, by record.
        run_counts: As in `work.ReadResult`.
    """

    packed: Mapping[str, Any]
    laid: Laid
    record_count: int
    faults: list[Fault] = field(default_factory=list)
    repeated: list[Repeated] = field(default_factory=list)
    offsets: list[int] = field(default_factory=list)
    is_cut: bool = False
    places: dict[int, CasePlace] = field(default_factory=dict)
    run_counts: list[int] = field(default_factory=list)

    def unpack(self, schemas: Mapping[str, Any]) -> Laid:
        """Return what became of the chunk, with its rows."""
        self.laid.batches = {
            name: pa.ipc.read_record_batch(data, schemas[name]) for name, data in self.packed.items()
        }
        return self.laid


@dataclass(frozen=True)
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

    def __call__(self, task: ReadTask | RowsTask) -> LaidResult:
        """Return what becomes of a chunk, or of a fragment that was put aside."""
        if isinstance(task, RowsTask):
            fragment = with_records_before(unpack_fragment(task.packed), task.records_before)
            return self.of(fragment)
        fragment, is_cut = read_fragment(task)
        result = self.of(fragment)
        result.is_cut = is_cut
        if isinstance(task.chunk, XmlChunk):
            result.places = _xml_places(result.laid.problems, task.chunk, fragment)
            result.run_counts = task.chunk.counts_of(fragment.offsets)
        else:
            result.places = _places(result.laid.problems, task.chunk, fragment)
        return result

    def of(self, fragment: Fragment, places: object = None) -> LaidResult:
        """Return what becomes of a fragment; `places` are for surveys."""
        laid = lay(fragment, self.plan, self.kernel, self.with_records)
        packed = {name: batch.serialize() for name, batch in laid.batches.items()}
        laid.batches = {}
        return LaidResult(
            packed,
            laid,
            fragment.record_count,
            fragment.faults,
            fragment.repeated,
            repeated_offsets(fragment) if len(fragment.offsets) else [],
        )


def _xml_places(problems: list[Told], chunk: XmlChunk, fragment: Fragment) -> dict[int, CasePlace]:
    found = {}
    offsets = fragment.offsets
    for record in sorted({case.record for problem in problems for case in problem.cases}):
        at = int(offsets[record])
        name = chunk.run_of(at).name
        raw = _raw(chunk.data, fragment, record)
        found[record] = CasePlace(chunk.line_of(at), chunk.byte_of(at), name, chunk.record_of(at), raw)
    return found


def _places(problems: list[Told], chunk: Chunk, fragment: Fragment) -> dict[int, CasePlace]:
    """Return where the records of the cases stand; nothing where that is not known."""
    offsets = fragment.offsets
    records = sorted({case.record for problem in problems for case in problem.cases})
    if not records or len(offsets) <= records[-1]:
        return {}
    breaks = np.flatnonzero(np.frombuffer(chunk.data, np.uint8) == ord("\n"))
    lines = np.searchsorted(breaks, offsets[records])
    return {
        record: CasePlace(
            chunk.line + int(line),
            chunk.byte_offset + int(offsets[record]),
            raw=_raw(chunk.data, fragment, record),
        )
        for record, line in zip(records, lines, strict=True)
    }


def _raw(data: bytes, fragment: Fragment, record: int) -> bytes:
    """Return a record as it stands in the chunk, or its first part; it ends where the next begins."""
    offsets = fragment.offsets
    start = int(offsets[record])
    stop = int(offsets[record + 1]) if record + 1 < len(offsets) else len(data)
    stop = min([stop, *(fault.start for fault in fragment.faults if fault.start > start)])
    return data[start : min(stop, start + MOST_RAW_BYTES + 1)]
