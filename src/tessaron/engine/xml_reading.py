"""The first half of a run on XML: chunks of records become fragments, whatever documents they stand in."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np

from tessaron.core.base.errors import DataError, Place, UsageError
from tessaron.core.base.faults import Fault
from tessaron.core.base.paths import MARKUP, Origin
from tessaron.core.cutting.xml_chunks import XmlChunk, element_names
from tessaron.core.cutting.xml_skeletons import MOST_AROUND_BYTES
from tessaron.core.kernel.chunk_reading import ReadTask
from tessaron.core.kernel.contract import XmlOptions
from tessaron.core.layout.table_set import Table
from tessaron.core.markup.namespaces import Prefixes
from tessaron.core.markup.record_path import ANY_ROOT, Name
from tessaron.core.markup.tokens import TOKEN
from tessaron.core.markup.validating import RecordSchema
from tessaron.core.query.xpath_location import check_prefixes, parse_location
from tessaron.core.shape.declaring import declare
from tessaron.core.shape.shape import Shape
from tessaron.core.shape.shape_node import ShapeNode
from tessaron.engine.intake import ChunkWorks, Intake, SourceRead, Wanted
from tessaron.sources.inputs import ByteInput, Input, known_records
from tessaron.sources.schema_files import read_schema
from tessaron.sources.xml_documents import XmlFeed

_FEW_NAMES = 2
"""So many names of records are enough to know that there are several."""
_CHUNK_BYTES = 2 * 1024 * 1024
"""The largest chunk: as a tree, XML takes ten to twenty times its bytes."""
_SHARED_CHUNK_BYTES = 1280 * 1024
"""The largest where several threads work, each of which holds such trees."""


class XmlReading:
    """Reads all inputs of a run as XML.

    Args:
        inputs: The sources.
        wanted: What is wanted of them.
        intake: Is told what is read.
        works: What is done with it.
    """

    def __init__(self, inputs: list[Input], wanted: Wanted, intake: Intake, works: ChunkWorks):
        wanted.options.check_for_xml()
        self._wanted, self._intake, self._works = wanted, intake, works
        options = self._options = wanted.options
        records = options.records or known_records(inputs)
        self._location = None if records is None else parse_location(records)
        self._is_whole = self._location is not None and not self._location.is_streamed
        self.prefixes = Prefixes(dict(options.namespaces))
        workers = options.worker_count()
        self._feed = XmlFeed(
            _bytes_of(inputs),
            intake.count_bytes,
            min(options.bounded_chunk_bytes(), _CHUNK_BYTES if workers == 1 else _SHARED_CHUNK_BYTES),
            self._location,
            self.prefixes,
            options.envelope and not self._is_whole,
            wanted.above,
            options.exact,
            on_wrong=self._note_wrong,
        )
        self._schema = None if options.xsd is None else read_schema(options.xsd)
        self._first_name: str | None = None
        self._kept: dict[int, int] = {}
        self._faulty: dict[int, int] = {}
        self._faulty_around: dict[int, int] = {}
        self._ways: dict[int, str] = {}
        self.are_apart = False
        self._names: set[str] = set()
        self._is_any_name = self._location is not None and (
            self._location.last_name() is None or "|" in self._location.text
        )

    def results(self) -> Iterator[tuple[str, Any, int]]:
        """Yield the source of the first record, what a chunk of records became, and 0 as it is numbered."""
        intake = self._intake
        for task, result in self._works.results_of(self._tasks()):
            assert isinstance(task, ReadTask)
            chunk = task.chunk
            assert isinstance(chunk, XmlChunk)
            self._note_faults(result.faults, chunk)
            intake.is_partial |= result.is_cut
            self._note_ways(chunk)
            for run, count in zip(chunk.runs, result.run_counts, strict=False):
                self._kept[run.source] = self._kept.get(run.source, 0) + count
            intake.take_wanted(result.record_count)
            yield chunk.runs[0].name, result, 0
        self._finish()

    def _note_ways(self, chunk: XmlChunk) -> None:
        """Remember whether records of one document stand in several elements, and what they are called."""
        if self._is_any_name and not self._is_whole and len(self._names) < _FEW_NAMES:
            self._names.update(element_names(chunk, chunk.starts))
        if self._feed.path is not None and not self._is_whole:
            self.are_apart |= any(test.local == "*" for test in self._feed.path.tests[:-1])
        for run in chunk.runs:
            known = self._ways.setdefault(run.document, run.way)
            self.are_apart |= known != run.way

    def records_path(self) -> str:
        """Return where the records stand, as XPath."""
        if self._location is not None:
            return self._location.text
        return "/*" if self._feed.path is None else self._feed.path.shown(self.prefixes)

    def record_name(self) -> str | None:
        """Return the name of the records; None where it is any."""
        if self._location is not None:
            return self._location.last_name() or self._first_name
        local = self._feed.path.tests[-1].local if self._feed.path is not None else "*"
        return self._first_name if local == "*" else local

    def root_name(self) -> str | None:
        """Return the name of the documents' outermost element; None where it is any."""
        local = self._feed.path.tests[0].local if self._feed.path is not None else "*"
        return None if local == "*" else local

    def _tasks(self) -> Iterator[ReadTask]:
        intake, options = self._intake, self._options
        for chunk in self._feed:
            if chunk.is_skeleton:
                self._add_documents(chunk)
                continue
            if intake.has_enough():
                intake.is_partial = True
                for rest in self._feed.break_off():
                    self._add_documents(rest)
                return
            if self._is_whole and self._location is not None:
                check_prefixes(self._location.text, self.prefixes.by_prefix())
            self._first_name = self._first_name or _first_name_in(chunk)
            first = chunk.runs[0]
            yield ReadTask(
                chunk,
                options.kernel,
                options.kernel_options(),
                first.name if options.origin else None,
                self._wanted.content,
                first.document if self._feed.keeps_documents else None,
                first.name if self._wanted.is_survey else None,
                intake.still_wanted,
                self._xml_options(),
                self._is_any_name,
            )

    def _xml_options(self) -> XmlOptions:
        options, location = self._options, self._location
        return XmlOptions(
            options.white_space,
            location.predicates if location is not None else "",
            self._wanted.selection,
            location.text if location is not None and not location.is_streamed else "",
            self._record_schema(),
            options.kernel != "python",
            options.exact,
        )

    def _record_schema(self) -> RecordSchema | None:
        """Return what records are checked against, once it is known where they stand."""
        if self._schema is None or self._feed.path is None:
            return None
        return RecordSchema(self._schema.documents, self._way())

    def _way(self) -> tuple[Name, ...]:
        path = self._feed.path
        if path is None or self._is_whole or any(test.local == "*" for test in path.tests):
            raise UsageError(
                "a schema needs to know the record: --records with names from the root, without //"
            )
        return tuple(Name(test.namespace or "", test.local) for test in path.tests)

    def declare(self, record: ShapeNode) -> None:
        """Add what the schema declares to the shape of the records."""
        if not self._has_names():
            record.children.pop(Origin.ELEMENT, None)
        if self._schema is None:
            return
        declared = self._schema.schema.record(self._way())
        if declared is not None:
            declare(record, declared, self.prefixes)
        names = self._schema.schema.constraints_above(self._way())
        if names:
            text = f"not checked, as records are checked one by one: {', '.join(names)}"
            self._intake.notes.append((f"constraints of {self._schema.name}", text))

    def _add_documents(self, chunk: XmlChunk) -> None:
        options = self._options
        if any(stop - start < 2 for start, stop in _spans(chunk)):
            limit = f"more than {MOST_AROUND_BYTES:,} bytes stand around the records of a document"
            raise UsageError(
                f"{chunk.runs[0].name}: {limit}; --records '/*' takes the document as one record, with all "
                "of it; --no-envelope leaves them out"
            )
        task = ReadTask(
            chunk, options.kernel, options.kernel_options(),
            xml=XmlOptions(options.white_space, keeps_order=options.exact, keeps_broken=True),
        )  # fmt: skip
        faults = self._works.add_documents(task, chunk.runs[0].name)
        self._note_faults(faults, chunk, are_records=False)

    def forget_container(self, shape: Shape) -> None:
        """Take the element in which the records stood, if nothing else does, out of the documents' shape."""
        node, way = shape.record, self.way_to_records()
        for name in way[:-1]:
            if name not in node.children:
                return
            node = node.children[name]
        last = node.children.get(way[-1]) if way else None
        if last is not None and not last.children and last.empty_texts == sum(last.counts):
            del node.children[way[-1]]

    def _note_faults(self, faults: list[Fault], chunk: XmlChunk, are_records: bool = True) -> None:
        for fault in faults:
            error = _error_of(fault, chunk)
            self._intake.reject(error, _raw_of(fault, chunk))
            source = chunk.run_of(_within(fault, chunk)).source
            counted = self._faulty if are_records else self._faulty_around
            counted[source] = counted.get(source, 0) + 1

    def _note_wrong(self, error: DataError, data: bytes) -> None:
        """Reject a document that is no record, where the documents are the records."""
        self._intake.reject(error, data)
        source = len(self._feed.sources) - 1
        self._faulty_around[source] = self._faulty_around.get(source, 0) + 1

    def _finish(self) -> None:
        intake, feed = self._intake, self._feed
        if not intake.is_partial:
            feed.check_found()
            if not any(self._kept.values()):
                intake.check_any()
        elsewhere = 0
        for number, source in enumerate(feed.sources):
            kept, faulty = self._kept.get(number, 0), self._faulty.get(number, 0)
            elsewhere += source.records - kept - faulty
            if source.error is not None:
                intake.reject(source.error, what="rest")
            intake.sources.append(
                SourceRead(
                    source.name,
                    source.byte_count,
                    kept,
                    faulty + self._faulty_around.get(number, 0) + (source.error is not None),
                )
            )
        for test, count in feed.left_out.items():
            if count and feed.keeps_documents:
                intake.passed[f"/descendant::{test}"] += count
        self._say_where(sum(self._kept.values()), elsewhere)

    def _say_where(self, count: int, elsewhere: int) -> None:
        intake, path = self._intake, self.records_path()
        if self._is_whole:
            intake.notes.append((path, "only what this path matches was read; the rest is left out"))
        elif self._location is not None:
            if self._location.predicates and not intake.is_partial:
                intake.notes.append((path, f"{elsewhere:,} elements do not fulfil the predicate; left out"))
        elif self._feed.path is not None and self._feed.path.is_root:
            what = (
                "each document is a record" if len(self._feed.sources) > 1 else "the document is the record"
            )
            if self._feed.has_much_around:
                what += f", as more than {MOST_AROUND_BYTES:,} bytes stand beside what repeats in it first"
            if self._feed.path is not ANY_ROOT:
                intake.notes.append((path, f"{what}; --records names another element"))
        else:
            text = f"{count:,} elements recognised as the records; --records '/*' takes the documents"
            intake.notes.append((path, text))

    def _has_names(self) -> bool:
        """Say whether records are elements of several names."""
        return self._is_any_name and (self._is_whole or len(self._names) > 1)

    def only_name(self) -> str | None:
        """Return the one name that all records have, where the path to them does not say it."""
        return next(iter(self._names)) if len(self._names) == 1 else None

    def note_unkept(self, top: Table) -> None:
        """Say what the table of the records does not tell of where they stood, and how they were called."""
        path = self.records_path()
        if self.are_apart and not self._is_whole and top.enclosing_key is None:
            above = path.partition("[")[0].rpartition("/")[0]
            text = "they stand in several elements, and in which is not kept"
            self._intake.notes.append((path, f"{text}; --records '{above or '/*'}' keeps it"))
        if self._has_names() and not any(column.path == (Origin.ELEMENT,) for column in top.columns):
            text = "they are elements of several names, and which each has is not kept"
            self._intake.notes.append((path, f'{text}; a column with origin = "element" keeps it'))

    def way_to_records(self) -> list[str]:
        """Return the steps from the root, which is left out, to the element that the records stand in."""
        path = self._feed.path
        if path is None or self._is_whole:
            return []
        return [MARKUP + self.prefixes.name(test.namespace or "", test.local) for test in path.tests[1:-1]]


def _bytes_of(inputs: list[Input]) -> list[ByteInput]:
    found = [entry for entry in inputs if isinstance(entry, ByteInput)]
    if len(found) < len(inputs):
        raise UsageError("expected XML in all sources, got objects among them")
    return found


def _first_name_in(chunk: XmlChunk) -> str | None:
    """Return the name of the first record, without its prefix."""
    found = TOKEN.match(chunk.data)
    return None if found is None else found["start"].decode("utf-8", "replace").rpartition(":")[2]


def _spans(chunk: XmlChunk) -> list[tuple[int, int]]:
    starts = chunk.starts.tolist()
    return list(zip(starts, [*starts[1:], len(chunk.data)], strict=True))


def _within(fault: Fault, chunk: XmlChunk) -> int:
    return min(fault.byte_offset, len(chunk.data) - 1)


def _error_of(fault: Fault, chunk: XmlChunk) -> DataError:
    at = _within(fault, chunk)
    place = Place(
        chunk.run_of(at).name,
        line=chunk.line_of(at),
        byte_offset=chunk.byte_of(at),
        record=chunk.record_of(at),
        column=fault.column,
    )
    return DataError(fault.reason, place, fault.code)


def _raw_of(fault: Fault, chunk: XmlChunk) -> bytes:
    """Return the record of a fault, with the namespaces that are declared around it."""
    record = int(np.searchsorted(chunk.starts, _within(fault, chunk), side="right")) - 1
    start, stop = _spans(chunk)[max(record, 0)]
    return chunk.data[start:stop]
