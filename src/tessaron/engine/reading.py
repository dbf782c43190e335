"""The first half of a run: inputs become tapes, put aside in order, and their shape is learnt."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field, replace
from itertools import islice
from typing import TYPE_CHECKING, Any

import numpy as np

from tessaron.core.base.errors import Code, DataError, UsageError
from tessaron.core.base.faults import Fault, Repeated
from tessaron.core.base.paths import Path, format_path
from tessaron.core.cutting.envelope import MOST_AROUND_BYTES
from tessaron.core.cutting.json_splitting import Chunk
from tessaron.core.cutting.selecting import Selection
from tessaron.core.kernel.chunk_reading import ReadTask
from tessaron.core.shape.structure import (
    StructureNote,
    StructureRules,
    forget_records,
    mark_levels,
    object_paths,
    settle,
)
from tessaron.core.tape.gathering import Gathered, gather
from tessaron.core.tape.record_places import RecordPlaces
from tessaron.engine.feeds import ChunkResult, Feed, Learners, Mapper, Progress, ShapeWork, Work
from tessaron.engine.file_bundles import Bundle, bundled
from tessaron.engine.finding_trees import find_trees
from tessaron.engine.object_tapes import OBJECTS_AT_ONCE, tape_of_matches, tapes_of_objects
from tessaron.engine.options import Options
from tessaron.engine.reject_log import RejectLog
from tessaron.engine.rejects import Reject, SourceRead
from tessaron.sources.formats import Format, pass_over_unknown, recognise_format
from tessaron.sources.inputs import ByteInput, Input, ObjectInput, known_records, name_of_inputs
from tessaron.sources.json_chunks import Agreed, ChunkReader, agreed_place

if TYPE_CHECKING:
    from tessaron.core.layout.around_tables import AroundRecords
    from tessaron.core.layout.table_set import TableSet
    from tessaron.core.query.jsonpath import JsonPath
    from tessaron.engine.xml_reading import XmlReading

NO_OBJECT = "no object stands here: nothing was changed by this path"
NOTES_KEPT = 1_000
"""So many repeated names are kept with their place; all are counted."""


@dataclass(slots=True)
class SourceReading:
    """Reads all inputs of a run, once.

    Attributes:
        sources: What was read from each input.
        notes: What was recognised, as (path, text).
        log: Records that were left out, with their places.
        rejected: How many were left out.
        is_survey: Whether the profile of every path is wanted.
        selection: What is wanted of the records; None for everything.
        work: What is done with the records.
        around: What is done with the documents around them.
        passed: Values that were passed over, by path.
        repeated_names: By path, how often that happened, and the first case in words.
        structure: What was recognised in the structure of the records.
        without_object: Paths given for dictionaries at which no object stands.
        xml: What reads the sources if they are XML.
        wants_above: Whether values of the elements around records of XML are wanted with them.
        gathered: Trees whose nodes come together: given before reading, or else found.
        finds_trees: Whether trees are looked for.
        is_partial: Whether only the first records were read, and there are more.
        repeated: How many values gave way to a later one of the same name in the same object.
    """

    inputs: list[Input]
    options: Options
    records: Feed
    documents: Feed
    progress: Progress
    mapper: Mapper
    is_survey: bool = False
    selection: Selection | None = None
    work: Work = field(init=False)
    around: Work = field(init=False)
    passed: Counter[str] = field(default_factory=Counter)
    sources: list[SourceRead] = field(default_factory=list)
    notes: list[tuple[str, str]] = field(default_factory=list)
    log: RejectLog = field(default_factory=RejectLog)
    rejected: int = 0
    repeated: int = 0
    is_partial: bool = False
    structure: list[StructureNote] = field(default_factory=list)
    repeated_names: dict[str, tuple[int, str]] = field(default_factory=dict)
    without_object: list[str] = field(default_factory=list)
    xml: XmlReading | None = None
    wants_above: bool = False
    gathered: tuple[Gathered, ...] = ()
    finds_trees: bool = True
    _wanted: int | None = None
    _bytes: int = 0
    _documents: int = 0
    _names: tuple[str, ...] | None = None
    _path: JsonPath | None = None
    _agreed: Agreed | None = None
    _missing: list[str] = field(default_factory=list)
    _first_error: DataError | None = None
    _is_broken: bool = False
    _emptied: set[tuple[str, ...]] = field(default_factory=set)

    def __post_init__(self) -> None:
        for feed in (self.records, self.documents):
            feed.learners = Learners(self.options.kernel != "python")
            if self.options.memory is not None:
                feed.most_bytes = self.options.bounded_chunk_bytes()
        self.work, self.around = ShapeWork(self.records.learners), ShapeWork(self.documents.learners)

    @property
    def rejects(self) -> list[Reject]:
        """The first of the rejects."""
        return self.log.first

    def read_all(self) -> None:
        """Parse all inputs, and put what they hold aside."""
        for name, result, records_before in self.results():
            self.records.add(result, records_before, name)

    def results(self) -> Iterator[tuple[str, Any, int]]:
        """Parse all inputs; yield the source, what its next records became, and the records before them."""
        sizes = [entry.size for entry in self.inputs]
        self.progress.start(None if None in sizes else sum(size for size in sizes if size is not None))
        self._wanted = self.options.first
        if self.options.skip_unknown and len(self.inputs) > 1:
            self.notes += pass_over_unknown(self.inputs)
        self._recognise_format()
        if self.xml is not None:
            yield from self.xml.results()
            return
        self._path = self.options.path() or self._known_path()
        self._agreed = agreed_place(self.inputs) if self._path is None else None
        for entry in self._entries():
            if self._wanted is not None and self._wanted <= 0:
                self.is_partial = True
                break
            if isinstance(entry, Bundle):
                yield from self._results_of_bundle(entry)
            else:
                yield from self._results_of_entry(entry)
        if self._missing and len(self._missing) == len(self.inputs):
            raise UsageError(self._missing[0])
        if self._first_error is not None and not any(source.records for source in self.sources):
            # Not one record could be read: there is nothing to make tables of.
            raise self._first_error

    def _entries(self) -> Iterator[Input | Bundle]:
        """Yield the inputs, many small ones together where each of them is a record."""
        are_records = self._agreed is not None and self._agreed.names is None
        # A key that is repeated, or made of a record's text, is told with the record's source.
        has_keys = bool(self.options.key) or self.options.keys == "digest"
        is_all = self._wanted is None and not self.is_survey and type(self.work) is ShapeWork
        if not are_records or not is_all or has_keys:
            return iter(self.inputs)
        return bundled(self.inputs, self.options.bounded_chunk_bytes())

    def _results_of_bundle(self, bundle: Bundle) -> Iterator[tuple[str, Any, int]]:
        """Yield what many small files became together, or else each by itself."""
        task = ReadTask(
            bundle.chunk,
            self.options.kernel,
            replace(self.options.kernel_options(), selection=self.selection),
            bundle.entries[0].name if self.options.origin else None,
            gathered=self.gathered,
        )
        for result in self.mapper.map(self.work, iter((task,))):
            if result.is_refused:
                for entry in bundle.entries:
                    yield from self._results_of_entry(entry)
                return
            yield bundle.entries[0].name, result, 0
            self.count_bytes(sum(entry.size or 0 for entry in bundle.entries))
            self.sources += [SourceRead(entry.name, entry.size or 0, 1) for entry in bundle.entries]

    def _results_of_entry(self, entry: Input) -> Iterator[tuple[str, Any, int]]:
        """Yield what the records of one source became."""
        byte_count, rejected = self._bytes, self.rejected
        if isinstance(entry, ByteInput) and entry.said:
            self.notes.append((entry.name, entry.said))
        records = 0
        for result in self._results(entry):
            yield entry.name, result, records
            records += result.record_count
            self.take_wanted(result.record_count)
        read = SourceRead(entry.name, self._bytes - byte_count, records, self.rejected - rejected)
        self.sources.append(read)
        if isinstance(entry, ByteInput):
            after = entry.after() if entry.after is not None else ""
            self.notes += [(entry.name, said) for said in (after, entry.changed()) if said]

    def _known_path(self) -> JsonPath | None:
        """Return where the records stand, where the sources know it beforehand.

        Raises:
            UsageError: When they do not know the same.
        """
        known = known_records(self.inputs)
        if known is None:
            return None
        from tessaron.core.query.jsonpath import parse_path

        return parse_path(known)

    def _recognise_format(self) -> None:
        """Find out what the sources are written in; XML is read by `xml` then."""
        first = self.inputs[0] if self.inputs else None
        if not isinstance(first, ByteInput):
            found: Format = "json"
        else:
            found, self.inputs[0] = recognise_format(first)
        wanted = self.options.format
        if wanted is not None and wanted != found:
            name = first.name if first is not None else "the source"
            raise UsageError(f"{name}: expected {wanted.upper()}, as the layout says, got {found.upper()}")
        if found == "xml":
            from tessaron.engine.xml_reading import XmlReading

            self.options.check_for_xml()
            self.xml = XmlReading(self)
        else:
            self.options.check_for_json()

    def results_of(self, tasks: Iterator[ReadTask]) -> Iterator[Any]:
        """Yield what tasks become, in their order."""
        return self.mapper.map(self.work, tasks)

    def add_documents(self, task: ReadTask, source: str) -> list[Fault]:
        """Take in documents without their records. Return what is wrong."""
        result = self.around(task)
        self.documents.add(result, 0, source)
        return list(result.faults)

    def has_enough(self) -> bool:
        """Say whether as many records were read as are wanted."""
        return self._wanted is not None and self._wanted <= 0

    def still_wanted(self) -> int | None:
        """Return how many more records are wanted; None for all there are."""
        return self._wanted

    def take_wanted(self, count: int) -> None:
        """Take in that so many more records were read."""
        self._wanted = None if self._wanted is None else self._wanted - count

    def reject(
        self, error: DataError, raw: bytes | None = None, what: str = "record", is_whole: bool = True
    ) -> None:
        """Count a record that was left out, and keep where, why and what it was.

        Args:
            error: Why.
            raw: The record as it stands in the source.
            what: As in `Reject.rejected`.
            is_whole: Whether `raw` is the record and nothing else.
        """
        self.rejected += 1
        self._first_error = self._first_error or error
        reject = Reject.of(error, raw, what)
        self.log.add_fault(reject if is_whole else replace(reject, is_whole=False))

    def top_name(self) -> str:
        """Return the name for the top table."""
        if self.options.name:
            return self.options.name
        if self.xml is not None and (name := self.xml.record_name()):
            return name
        recognised = self._names[-1] if self._names else None
        last = recognised if self._path is None else self._path.last_name()
        if last:
            return last
        return name_of_inputs(self.inputs)

    def documents_name(self, top: str) -> str:
        """Return the name for the table of what stands around the records."""
        root = self.xml.root_name() if self.xml is not None else None
        return root or f"{top}_documents"

    def settle(self, levels: Iterable[Path] = (), fields: Iterable[Path] = ()) -> None:
        """Settle the structure, once all is read.

        Args:
            levels: Where it is known that rows stand, be it a single one.
            fields: Where values of columns stand: the objects around them are no rows.
        """
        rules = replace(self.options.structure_rules(), is_markup=self.xml is not None)
        found: list[StructureNote] = []
        named = {*rules.dictionaries, *rules.not_dictionaries}
        rules = replace(rules, gathered=self._find_trees(rules))
        for feed in (self.records, self.documents):
            feed.learnt(rules, self.mapper, self.is_survey)
        self.passed += self.records.passed
        self._forget_records()
        mark_levels(self.records.shape.record, levels, fields)
        if self.xml is not None:
            self.xml.declare(self.records.shape.record)
        for feed in (self.records, self.documents):
            named -= object_paths(feed.shape, named)
            notes = settle(feed.shape, rules)
            found += notes
            self.structure += notes if feed is self.records else []
        self.without_object = sorted(named)
        self.notes += [(path, NO_OBJECT) for path in self.without_object]
        self.notes += [(format_path(note.path), note.text) for note in found]

    def _find_trees(self, rules: StructureRules) -> tuple[Gathered, ...]:
        """Find trees whose node names are data, and let their nodes come together in what was put aside."""
        if not self.gathered and not rules.is_markup and self.finds_trees:
            trees = find_trees(self.records, self.mapper, set(rules.not_dictionaries))
            self.records.gather(trees, self.mapper)
            self.gathered = tuple(tree.gathered for tree in trees)
        return self.gathered

    def _forget_records(self) -> None:
        """Take the places of the records, now empty, out of the shape of the documents."""
        if self.xml is not None:
            self.xml.forget_container(self.documents.shape)
        for names in self._emptied:
            forget_records(self.documents.shape, names)

    def records_path(self) -> str:
        """Return where the records stand in the documents, as JSONPath."""
        if self.xml is not None:
            return self.xml.records_path()
        if self._path is not None:
            return self._path.text
        return "$" if self._names is None else format_path(self._names) + "[*]"

    def needs_content(self) -> bool:
        """Say whether keys are made of the text of the records."""
        return self.options.keys == "digest" and not self.options.key

    def around_records(self) -> AroundRecords | None:
        """Return what stands around the records; None where that is not wanted, or nothing worth a table."""
        documents = self.documents.shape
        are_apart = self.xml is not None and self.xml.are_apart
        if not self.options.envelope or not (
            are_apart or any(node.scalar_kinds() for node in documents.record.walk())
        ):
            return None
        from tessaron.core.layout.around_tables import AroundRecords

        name = self.documents_name(self.top_name())
        return AroundRecords(documents, name, () if self.xml is None else self.xml.way_to_records())

    def note_unkept(self, layout: TableSet) -> None:
        """Say what the table of records of XML does not tell of their places and names."""
        if self.xml is not None:
            self.xml.note_unkept(layout.tables[0])

    def _results(self, entry: Input) -> Iterator[Any]:
        is_evaluated = self._path is not None and self._path.plain_names() is None and self._path.segments
        if (isinstance(entry, ObjectInput) or is_evaluated) and self.needs_content():
            raise UsageError("digest keys of these records need a natural key; name its columns with --key")
        if isinstance(entry, ObjectInput):
            wanted = islice(entry.records, self._wanted)
            for tape in tapes_of_objects(wanted, self._with_origin(), self.selection):
                yield self.work.of(gather(tape, self.gathered))
            self.is_partial |= self._wanted is not None and next(entry.records, None) is not None
            return
        if self._path is not None and is_evaluated:
            yield from self._results_at_path(entry, self._path)
            return
        chunk_bytes = self.options.bounded_chunk_bytes()
        is_only = len(self.inputs) == 1
        reader = ChunkReader(
            entry, self.count_bytes, chunk_bytes, self._path, must_find=is_only, agreed=self._agreed
        )
        chunks: list[Chunk] = []
        records = 0
        self._is_broken = False
        broken: list[DataError] = []
        for result in self.mapper.map(self.work, self._tasks(entry, reader, chunks, broken)):
            chunk = chunks.pop(0)
            if self._is_broken:
                # What is behind a fault that has no end was parsed ahead, and means nothing.
                continue
            self._note_faults(result, chunk, entry.name, records)
            records += result.record_count + len(result.faults)
            self.log.check_share(records)
            self.is_partial |= result.is_cut
            yield result
        if reader.missing and not is_only:
            self._missing.append(reader.missing)
        if broken and broken[0].code is Code.EMPTY:
            self.reject(broken[0])
            return
        if broken and broken[0].code is not Code.TRUNCATED:
            # It says more than the record which broke off there.
            self._first_error = broken[0]
        if broken and not self._is_broken:
            self.reject(broken[0], what="rest")

    def _tasks(
        self, entry: ByteInput, reader: ChunkReader, chunks: list[Chunk], broken: list[DataError]
    ) -> Iterator[ReadTask]:
        base, announced = self._documents, False
        for chunk in _until_broken(reader, broken, len(self.inputs) == 1):
            if self._is_broken:
                return
            if self._wanted is not None and self._wanted <= 0:
                self.is_partial = True
                return
            if not announced and reader.place is not None and reader.place.names is not None:
                announced = True
                self._announce(reader.place.names, reader.place.recognised)
            if chunk.is_skeleton:
                self._documents += 1
                self._add_document(chunk, entry.name, reader)
                continue
            chunks.append(chunk)
            document_key = (
                base + chunk.document + 1 if chunk.document >= 0 and self.options.envelope else None
            )
            yield ReadTask(
                chunk,
                self.options.kernel,
                replace(self.options.kernel_options(), selection=self.selection),
                entry.name if self.options.origin else None,
                self.needs_content(),
                document_key,
                entry.name if self.is_survey else None,
                self._wanted,
                gathered=self.gathered,
            )

    def _announce(self, names: tuple[str, ...], recognised: bool) -> None:
        if recognised and self._names is None:
            path = format_path(names) + "[*]"
            self.notes.append(
                (path, "envelope: the records are taken from here; --records '$' takes documents")
            )
        self._names = names

    def _add_document(self, chunk: Chunk, source: str, reader: ChunkReader) -> None:
        task = ReadTask(chunk, self.options.kernel, self.options.kernel_options())
        if not chunk.data:
            if not self.options.envelope:
                return
            limit = f"more than {MOST_AROUND_BYTES:,} bytes stand around the records of a document"
            raise UsageError(f"{source}: {limit}; leave them out with --no-envelope")
        result = self.around(task)
        if result.faults:
            from tessaron.engine.path_reading import data_error

            raise data_error(result.faults[0], chunk, source, 0)
        names = reader.place.names if reader.place is not None else None
        self._emptied.add(names or ())
        if self.options.envelope:
            self.documents.add(result, 0, source)

    def _with_origin(self) -> bool:
        """Say whether it is kept where records stand."""
        return self.options.origin or self.is_survey

    def _results_at_path(self, entry: ByteInput, path: JsonPath) -> Iterator[Any]:
        """Yield what the path matches, evaluated document by document or, where it can be, piece by piece."""
        from tessaron.engine.path_reading import PathReader

        chunk_bytes = self.options.bounded_chunk_bytes()
        options = self.options.kernel_options()
        matches = iter(
            PathReader([entry], path, None, options, on_bytes=self.count_bytes, chunk_bytes=chunk_bytes)
        )
        wanted = islice(matches, self._wanted)
        count = 0
        while group := list(islice(wanted, OBJECTS_AT_ONCE)):
            tape = tape_of_matches(group, self._with_origin(), self.selection)
            count += len(group)
            if self.is_survey:
                lines = np.array([found.line or 0 for found in group], np.int64)
                tape.places = RecordPlaces(entry.name, lines)
            yield self.work.of(gather(tape, self.gathered))
        self.is_partial |= self._wanted is not None and next(matches, None) is not None
        if not count:
            self.notes.append((path.text, f"nothing matches in {entry.name}"))
        self.notes.append((path.text, "only what this path matches was read; the rest is left out"))

    def _note_faults(self, result: ChunkResult, chunk: Chunk, source: str, records_before: int) -> None:
        if result.faults:
            from tessaron.engine.path_reading import data_error
        for fault in result.faults:
            raw = chunk.data[fault.start : fault.stop] if fault.start >= 0 else None
            error = data_error(fault, chunk, source, records_before)
            if fault.is_end:
                error = DataError(f"{error.reason}; nothing behind it was read", error.place, error.code)
            self.reject(error, raw, is_whole=not fault.is_end)
            self._is_broken |= fault.is_end
        self.repeated += len(result.repeated)
        for found, offset in zip(result.repeated, result.offsets, strict=True):
            path = format_path(found.path)
            count, first = self.repeated_names.get(path, (0, ""))
            if not first:
                line = chunk.line + chunk.data.count(b"\n", 0, offset)
                first = f"in line {line:,} of {source}, where {self._shown(found)} gave way"
            self.repeated_names[path] = (count + 1, first)
        room = max(0, NOTES_KEPT - len(self.notes))
        for found, offset in list(zip(result.repeated, result.offsets, strict=True))[:room]:
            line = chunk.line + chunk.data.count(b"\n", 0, offset)
            shown = self._shown(found)
            text = f"stands twice in its object ({source}, line {line}); the earlier {shown} gave way"
            self.notes.append((format_path(found.path), text))

    def _shown(self, found: Repeated) -> str:
        return found.value if self.log.keeps_records else "value"

    def count_bytes(self, byte_count: int) -> None:
        """Take in that so many more bytes were read."""
        self._bytes += byte_count
        self.progress.read(byte_count)


def _until_broken(reader: ChunkReader, broken: list[DataError], is_only: bool) -> Iterator[Chunk]:
    """Yield chunks up to where the outer form of a source is broken; `broken` is given the reason then.

    Raises:
        DataError: When there is nothing in the only source.
    """
    try:
        yield from reader
    except DataError as error:
        if is_only and error.code is Code.EMPTY:
            raise
        broken.append(error)
