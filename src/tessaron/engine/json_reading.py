"""The first half of a run on JSON: chunks of records become tapes, wherever in documents they stand."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from itertools import islice
from typing import TYPE_CHECKING, Any

import numpy as np

from tessaron.core.base.errors import Code, DataError, UsageError
from tessaron.core.base.paths import format_path
from tessaron.core.cutting.envelope import MOST_AROUND_BYTES
from tessaron.core.shape.shape import Shape
from tessaron.core.shape.structure import forget_records
from tessaron.core.tape.gathering import gather
from tessaron.core.tape.record_places import RecordPlaces
from tessaron.engine.chunk_events import (
    AroundRead,
    Behind,
    Broken,
    ChunkEvents,
    ChunkRead,
    EventsOf,
    RecordsFound,
)
from tessaron.engine.feeds import ShapeWork
from tessaron.engine.file_bundles import Bundle, bundled
from tessaron.engine.intake import ChunkWorks, Intake, SourceRead, Wanted
from tessaron.engine.object_tapes import OBJECTS_AT_ONCE, tape_of_matches, tapes_of_objects
from tessaron.sources.inputs import ByteInput, Input, ObjectInput, known_records
from tessaron.sources.json_chunks import Agreed, agreed_place

if TYPE_CHECKING:
    from tessaron.core.query.jsonpath import JsonPath


class JsonReading:
    """Reads all inputs of a run as JSON, or as objects of Python.

    Args:
        inputs: The sources.
        wanted: What is wanted of them.
        intake: Is told what is read.
        works: What is done with it.
        events: Tells of sources while they are read.
    """

    def __init__(
        self,
        inputs: list[Input],
        wanted: Wanted,
        intake: Intake,
        works: ChunkWorks,
        events: EventsOf = ChunkEvents,
    ):
        wanted.options.check_for_json()
        self._inputs, self._wanted, self._intake, self._works = inputs, wanted, intake, works
        self._options = wanted.options
        self._path = wanted.options.path() or _known_path(inputs)
        self._agreed = None
        if self._path is None:
            # A layout that names no place is one for the documents: a single one may look like an envelope.
            self._agreed = Agreed(None) if wanted.options.as_documents else agreed_place(inputs)
        self._chunks = events(wanted, intake, works, self._path, self._agreed)
        self._names: tuple[str, ...] | None = None
        self._documents = 0
        self._missing: list[str] = []
        self._emptied: set[tuple[str, ...]] = set()

    def results(self) -> Iterator[tuple[str, Any, int]]:
        """Yield the source, what its next records became, and the records before them."""
        for entry in self._entries():
            if self._intake.has_enough():
                self._intake.is_partial = True
                break
            if isinstance(entry, Bundle):
                yield from self._results_of_bundle(entry)
            else:
                yield from self._results_of_entry(entry)
        if self._missing and len(self._missing) == len(self._inputs):
            raise UsageError(self._missing[0])
        self._intake.check_any()

    def records_path(self) -> str:
        """Return where the records stand in the documents, as JSONPath."""
        if self._path is not None:
            return self._path.text
        return "$" if self._names is None else format_path(self._names) + "[*]"

    def record_name(self) -> str | None:
        """Return what the records are called where they stand; None where nothing says it."""
        if self._path is not None:
            return self._path.last_name()
        return self._names[-1] if self._names else None

    def forget_container(self, shape: Shape) -> None:
        """Take the places of the records, now empty, out of the documents' shape."""
        for names in self._emptied:
            forget_records(shape, names)

    def _entries(self) -> Iterator[Input | Bundle]:
        """Yield the inputs, many small ones together where each of them is a record."""
        are_records = self._agreed is not None and self._agreed.names is None
        # A key that is repeated, or made of a record's text, is told with the record's source.
        has_keys = bool(self._options.key) or self._options.keys == "digest"
        is_here = type(self._works) is ChunkWorks
        is_all = is_here and self._intake.still_wanted is None and not self._wanted.is_survey
        if not are_records or not is_all or has_keys or type(self._works.work) is not ShapeWork:
            return iter(self._inputs)
        return bundled(self._inputs, self._options.bounded_chunk_bytes())

    def _results_of_bundle(self, bundle: Bundle) -> Iterator[tuple[str, Any, int]]:
        """Yield what many small files became together, or else each by itself."""
        first, intake = bundle.entries[0], self._intake
        for _, result in self._works.results_of(iter((self._chunks.task(bundle.chunk, first.name),))):
            if result.is_refused:
                for entry in bundle.entries:
                    yield from self._results_of_entry(entry)
                return
            yield first.name, result, 0
            intake.count_bytes(sum(entry.size or 0 for entry in bundle.entries))
            intake.sources += [SourceRead(entry.name, entry.size or 0, 1) for entry in bundle.entries]

    def _results_of_entry(self, entry: Input) -> Iterator[tuple[str, Any, int]]:
        """Yield what the records of one source became."""
        intake = self._intake
        bytes_before, rejected_before = intake.byte_count, intake.rejected
        if isinstance(entry, ByteInput) and entry.said:
            intake.notes.append((entry.name, entry.said))
        records = 0
        for result in self._results(entry):
            yield entry.name, result, records
            records += result.record_count
            intake.take_wanted(result.record_count)
        intake.sources.append(
            SourceRead(
                entry.name, intake.byte_count - bytes_before, records, intake.rejected - rejected_before
            )
        )
        if isinstance(entry, ByteInput):
            after = entry.after() if entry.after is not None else ""
            intake.notes += [(entry.name, said) for said in (after, entry.changed()) if said]

    def _results(self, entry: Input) -> Iterator[Any]:
        path = self._path
        is_evaluated = path is not None and path.plain_names() is None and bool(path.segments)
        if (isinstance(entry, ObjectInput) or is_evaluated) and self._wanted.content:
            raise UsageError("digest keys of these records need a natural key; name its columns with --key")
        if isinstance(entry, ObjectInput):
            return self._results_of_objects(entry)
        if path is not None and is_evaluated:
            return self._results_at_path(entry, path)
        return self._results_of_chunks(entry)

    def _results_of_objects(self, entry: ObjectInput) -> Iterator[Any]:
        most = self._intake.still_wanted
        for tape in tapes_of_objects(
            islice(entry.records, most), self._wanted.origin, self._wanted.selection
        ):
            yield self._works.of(gather(tape, self._wanted.gathered))
        self._intake.is_partial |= most is not None and next(entry.records, None) is not None

    def _results_at_path(self, entry: ByteInput, path: JsonPath) -> Iterator[Any]:
        """Yield what the path matches, evaluated document by document or, where it can be, piece by piece."""
        from tessaron.engine.path_reading import PathReader

        intake, wanted = self._intake, self._wanted
        most, count = intake.still_wanted, 0
        reader = PathReader(
            [entry], path, None, self._options.kernel_options(),
            on_bytes=intake.count_bytes, chunk_bytes=self._options.bounded_chunk_bytes(),
        )  # fmt: skip
        matches = iter(reader)
        chosen = islice(matches, most)
        while group := list(islice(chosen, OBJECTS_AT_ONCE)):
            tape = tape_of_matches(group, wanted.origin, wanted.selection)
            count += len(group)
            if wanted.is_survey:
                lines = np.array([found.line or 0 for found in group], np.int64)
                tape.places = RecordPlaces(entry.name, lines)
            yield self._works.of(gather(tape, wanted.gathered))
        intake.is_partial |= most is not None and next(matches, None) is not None
        if not count:
            intake.notes.append((path.text, f"nothing matches in {entry.name}"))
        intake.notes.append((path.text, "only what this path matches was read; the rest is left out"))

    def _results_of_chunks(self, entry: ByteInput) -> Iterator[Any]:
        intake, is_only = self._intake, len(self._inputs) == 1
        records = 0
        for event in self._chunks.of(entry, self._documents):
            if isinstance(event, ChunkRead):
                self._note_faults(event, entry.name, records)
                records += event.result.record_count + len(event.faults)
                intake.log.check_share(records)
                intake.is_partial |= event.result.is_cut
                yield event.result
            elif isinstance(event, RecordsFound):
                self._say_where(event.names, event.recognised)
            elif isinstance(event, AroundRead):
                self._add_document(event, entry.name)
            elif isinstance(event, Broken):
                if is_only and event.error.code is Code.EMPTY:
                    raise event.error
                self._note_reason(event.error)
                intake.reject(event.error, what="record" if event.error.code is Code.EMPTY else "rest")
            elif isinstance(event, Behind):
                self._note_reason(event.error)
            elif event.missing:
                if is_only:
                    raise UsageError(event.missing)
                self._missing.append(event.missing)

    def _note_reason(self, behind: DataError) -> None:
        """Take in why the form of a source is broken: it says more than the record that broke off there."""
        if behind.code not in (Code.EMPTY, Code.TRUNCATED):
            self._intake.first_error = behind

    def _say_where(self, names: tuple[str, ...], recognised: bool) -> None:
        if recognised and self._names is None:
            text = "envelope: the records are taken from here; --records '$' takes documents"
            self._intake.notes.append((format_path(names) + "[*]", text))
        self._names = names

    def _add_document(self, event: AroundRead, source: str) -> None:
        self._documents += 1
        if event.result is None:
            if not self._options.envelope:
                return
            limit = f"more than {MOST_AROUND_BYTES:,} bytes stand around the records of a document"
            raise UsageError(f"{source}: {limit}; leave them out with --no-envelope")
        if self._options.envelope:
            self._works.documents.add(event.result, 0, source)
        if event.error is not None:
            raise event.error
        self._emptied.add(event.names)

    def _note_faults(self, event: ChunkRead, source: str, records_before: int) -> None:
        """Take in what is wrong in a chunk."""
        for fault in event.faults:
            error, place = fault.error, fault.error.place
            number = None if place.record is None else place.record + records_before
            reason = f"{error.reason}; nothing behind it was read" if fault.is_end else error.reason
            told = DataError(reason, replace(place, record=number), error.code)
            self._intake.reject(told, fault.raw, is_whole=not fault.is_end)
        for found, line in event.repeated:
            self._intake.note_repeated(found, source, line)


def _known_path(inputs: list[Input]) -> JsonPath | None:
    """Return where the records stand, where the sources know it beforehand.

    Raises:
        UsageError: When they do not know the same.
    """
    known = known_records(inputs)
    if known is None:
        return None
    from tessaron.core.query.jsonpath import parse_path

    return parse_path(known)
