"""The two halves of the work on one chunk: pure functions that any process can run."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from pickle import PickleBuffer
from typing import Any, SupportsIndex

import numpy as np
import pyarrow as pa

from tessaron.core.branches import fragment_of, origin, tree_of
from tessaron.core.conform import conform
from tessaron.core.digest_keys import content_lane
from tessaron.core.errors import UsageError
from tessaron.core.faults import Fault, Repeated
from tessaron.core.fragment import (
    Fragment,
    Role,
    TextLane,
    pack_fragment,
    unpack_fragment,
)
from tessaron.core.kernel import choose_kernel
from tessaron.core.kernel.contract import KernelOptions, Separator, XmlOptions
from tessaron.core.layout import TableSet
from tessaron.core.paths import ENCLOSING, Origin, Path
from tessaron.core.rebuilding.rest import add_rests, rest_plans, spell_texts
from tessaron.core.record_places import RecordPlaces
from tessaron.core.regroup import entries_as_records
from tessaron.core.shape import Shape, ShapeNode, pack_nodes, unpack_nodes
from tessaron.core.splitting import Chunk
from tessaron.core.tables import make_tables
from tessaron.core.xml.chunks import XmlChunk
from tessaron.core.xml.record_names import element_names


@dataclass(frozen=True, slots=True)
class ReadTask:
    """The first half: parse one chunk.

    Attributes:
        chunk: The records.
        kernel: Name of the kernel.
        options: What the kernel has to know.
        file: Name of the source if the rows are to say where they come from, else None.
        content: Whether the digest of each record's text is wanted, for digest keys.
        profiled: Name of the source if the profile of every path is wanted, else None.
        most_records: So many records of the chunk are wanted; None for all.
        xml: What the kernel has to know of XML.
        document_key: The number of the document the records stand in, from 1; None when that is not kept.
        tells_names: Whether rows are to say how the elements that are the records are called.
    """

    chunk: Chunk | XmlChunk
    kernel: str
    options: KernelOptions
    file: str | None = None
    content: bool = False
    document_key: int | None = None
    profiled: str | None = None
    most_records: int | None = None
    xml: XmlOptions = field(default_factory=XmlOptions)
    tells_names: bool = False


@dataclass(slots=True)
class ReadResult:
    """A parsed chunk, ready to be put aside, and its shape.

    Attributes:
        packed: The fragment as Arrow IPC, or where it was put.
        record_count: Records in it.
        faults: The records that could not be read.
        repeated: Names that stood twice in an object.
        offsets: Where the records of `repeated` begin in the chunk, in bytes.
        shape: What the records look like.
        is_cut: Whether there were more records in the chunk than were wanted.
        passed: Values that were passed over, by path.
        run_counts: For XML: how many of the records each run of the chunk has.
    """

    packed: Any
    record_count: int
    faults: list[Fault]
    repeated: list[Repeated]
    offsets: list[int]
    shape: Shape
    is_cut: bool = False
    passed: Mapping[str, int] = field(default_factory=dict)
    run_counts: list[int] = field(default_factory=list)

    @classmethod
    def of(
        cls,
        fragment: Fragment,
        settled: Mapping[Path, bool] | None = None,
        places: RecordPlaces | None = None,
    ) -> ReadResult:
        """Return the result for a fragment; `settled` as in `Shape`, `places` as in `Shape.add`."""
        shape = Shape(settled)
        passed = fragment.passed_by_path()
        if passed:
            fragment = fragment.without_passed()
        fragment = shape.add(fragment, places)
        packed = pack_fragment(fragment)
        return cls(
            packed, fragment.record_count, fragment.faults, fragment.repeated, repeated_offsets(fragment),
            shape, passed=passed,
        )  # fmt: skip


def repeated_offsets(fragment: Fragment) -> list[int]:
    """Return where the records with a repeated name begin in the chunk, in bytes."""
    return [int(fragment.offsets[found.record]) for found in fragment.repeated]


def read_chunk(task: ReadTask) -> ReadResult:
    """Return the fragment of a chunk, with what is known of its rows, and its shape."""
    fragment, is_cut = read_fragment(task)
    places = _places(task, fragment)
    result = ReadResult.of(fragment, None, places)
    result.is_cut = is_cut
    if isinstance(task.chunk, XmlChunk):
        result.run_counts = task.chunk.counts_of(fragment.offsets)
    return result


def read_fragment(task: ReadTask) -> tuple[Fragment, bool]:
    """Return the fragment of a chunk, with what is known of its rows, and whether records were left over."""
    chunk = task.chunk
    if isinstance(chunk, XmlChunk):
        return _read_xml(task, chunk)
    kernel = choose_kernel(task.kernel)
    is_cut = False
    if chunk.is_members:
        fragment = kernel(chunk.as_object(), Separator.NOTHING, False, task.options)
        if not fragment.faults:
            tree = entries_as_records(tree_of(fragment))
            fragment = replace(fragment_of(tree, fragment), offsets=np.empty(0, np.int64))
    else:
        fragment = kernel(chunk.data, chunk.separator, chunk.continues, task.options)
        if task.most_records is not None and fragment.record_count > task.most_records:
            data = chunk.data[: int(fragment.offsets[task.most_records])].rstrip(b", \t\r\n")
            fragment, is_cut = kernel(data, chunk.separator, chunk.continues, task.options), True
    _add_origins(fragment, task)
    return fragment, is_cut


def _read_xml(task: ReadTask, chunk: XmlChunk) -> tuple[Fragment, bool]:
    from tessaron.core.kernel.xml_kernel import read_xml

    is_cut = task.most_records is not None and len(chunk.starts) > task.most_records
    wanted = chunk.first(task.most_records) if is_cut and task.most_records is not None else chunk
    fragment = read_xml(wanted, task.xml)
    which, numbers, lines = chunk.places_of(fragment.offsets)
    documents = np.array([run.document for run in chunk.runs], np.int64)[which]
    known: dict[Origin, Any] = {}
    if task.document_key is not None:
        known[Origin.DOCUMENT] = documents
        enclosing = np.array([run.enclosing for run in chunk.runs], np.int64)[which]
        known.update(zip(ENCLOSING, enclosing.T, strict=False))
    if task.file is not None or task.profiled is not None:
        known[Origin.LINE] = lines
    if task.file is not None:
        known[Origin.RECORD] = numbers
        known[Origin.NUMBER] = documents
        files = pa.array([run.name for run in chunk.runs], pa.large_string())
        _add_text_origin(fragment, Origin.FILE, TextLane.of(files.take(pa.array(which))))
    if task.content:
        _add_text_origin(fragment, Origin.CONTENT, content_lane(chunk.data, fragment.offsets))
    if task.tells_names:
        names = fragment.names if task.xml.location else element_names(wanted, fragment.offsets)
        _add_text_origin(fragment, Origin.ELEMENT, TextLane.of(names))
    _add_integer_origins(fragment, known)
    return fragment, is_cut


def _places(task: ReadTask, fragment: Fragment) -> RecordPlaces | None:
    """Return where the records stand, if the profile of every path is wanted."""
    if task.profiled is None:
        return None
    if not isinstance(task.chunk, XmlChunk):
        return RecordPlaces.told_by(task.profiled, fragment)
    which, _, lines = task.chunk.places_of(fragment.offsets)
    names = [run.name for run in task.chunk.runs]
    return RecordPlaces(task.profiled, lines, tuple(names[index] for index in which.tolist()))


def _add_text_origin(fragment: Fragment, name: Origin, texts: TextLane) -> None:
    fragment.nodes.append(replace(origin(name, fragment.record_count, texts=texts).node, parent=0))


def _add_integer_origins(fragment: Fragment, known: Mapping[Origin, Any]) -> None:
    for name, values in known.items():
        branch = origin(name, fragment.record_count, integers=np.asarray(values, np.int64))
        fragment.nodes.append(replace(branch.node, parent=0))


def _add_origins(fragment: Fragment, task: ReadTask) -> None:
    assert isinstance(task.chunk, Chunk)
    count = fragment.record_count
    known: dict[Origin, Any] = {}
    if task.document_key is not None:
        known[Origin.DOCUMENT] = np.full(count, task.document_key, np.int64)
    if task.content:
        if len(fragment.offsets) != count:
            raise UsageError("digest keys of these records need a natural key; name its columns with --key")
        _add_text_origin(fragment, Origin.CONTENT, content_lane(task.chunk.data, fragment.offsets))
    if (task.file is not None or task.profiled is not None) and len(fragment.offsets) == count:
        breaks = np.flatnonzero(np.frombuffer(task.chunk.data, np.uint8) == ord("\n"))
        known[Origin.LINE] = task.chunk.line + np.searchsorted(breaks, fragment.offsets)
    if task.file is not None:
        known[Origin.RECORD] = np.arange(1, count + 1, dtype=np.int64)
        _add_text_origin(fragment, Origin.FILE, TextLane.of([task.file] * count))
    _add_integer_origins(fragment, known)


@dataclass(frozen=True, slots=True)
class ReshapeTask:
    """Learning the shape of a fragment again, knowing more than at first.

    Attributes:
        packed: The fragment as Arrow IPC, or where it was put.
        settled: For which objects it is known whether they are dictionaries.
        profiled: As in `ReadTask`.
    """

    packed: Any
    settled: Mapping[Path, bool]
    profiled: str | None = None


def reshape(task: ReshapeTask) -> ReadResult:
    """Return the fragment and its shape, regrouped by what is settled."""
    fragment = unpack_fragment(task.packed)
    places = None if task.profiled is None else RecordPlaces.told_by(task.profiled, fragment)
    return ReadResult.of(fragment, task.settled, places)


@dataclass(frozen=True, slots=True)
class RowsTask:
    """The second half: turn one fragment into rows.

    Attributes:
        packed: The fragment as Arrow IPC, or where it was put.
        records_before: Records of the same source before it.
    """

    packed: Any
    records_before: int = 0

    def __reduce_ex__(self, protocol: SupportsIndex) -> Any:
        """Let a packed fragment travel apart from the rest (PEP 574)."""
        packed = PickleBuffer(self.packed) if isinstance(self.packed, bytes) else self.packed
        return RowsTask, (packed, self.records_before)


@dataclass(slots=True)
class Plan:
    """What the second half needs to know: the settled shape and the layout."""

    record: ShapeNode
    layout: TableSet

    def __getstate__(self) -> Any:
        return pack_nodes(self.record), self.layout

    def __setstate__(self, state: Any) -> None:
        packed, self.layout = state
        self.record = unpack_nodes(packed)

    def unpack_rows(self, packed: Mapping[str, Any], schemas: Mapping[str, Any]) -> dict[str, Any]:
        """Return the record batches that `make_rows` packed."""
        return {name: pa.ipc.read_record_batch(data, schemas[name]) for name, data in packed.items()}


def make_rows(task: RowsTask, plan: Plan) -> dict[str, Any]:
    """Return the rows of a fragment for each table, its keys counted from 1, as packed record batches."""
    fragment = with_records_before(unpack_fragment(task.packed), task.records_before)
    fragment = with_rests(conform(fragment, plan.record), plan.layout)
    batches = make_tables(fragment, plan.layout)
    return {name: batch.serialize() for name, batch in batches.items()}


def with_rests(fragment: Fragment, layout: TableSet) -> Fragment:
    """Return a conformed fragment with the rest of the rows of the tables that keep it."""
    plans = rest_plans(layout)
    if not plans:
        return fragment
    tree = tree_of(fragment)
    add_rests(tree, plans, layout.exact)
    if layout.exact:
        spell_texts(tree)
    return fragment_of(tree, fragment)


def with_records_before(fragment: Fragment, count: int) -> Fragment:
    """Return a fragment whose record numbers go on after those of the same source before it."""
    for node in fragment.nodes:
        if node.role is Role.ORIGIN and node.name == Origin.RECORD.value:
            node.integers = node.integers + count
    return fragment
