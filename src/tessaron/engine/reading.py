"""The first half of a run: inputs become tapes, put aside in order, and their shape is learnt."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, Any, Protocol

from tessaron.core.base.errors import DataError, Place
from tessaron.core.base.paths import Path, format_path
from tessaron.core.cutting.selecting import Selection
from tessaron.core.shape.shape import Shape
from tessaron.core.shape.structure import StructureNote, StructureRules, mark_levels, object_paths, settle
from tessaron.core.tape.gathering import Gathered
from tessaron.engine.chunk_events import ChunkEvents, EventsOf
from tessaron.engine.feeds import Feed, Learners, Mapper, ShapeWork, Work
from tessaron.engine.finding_trees import find_trees
from tessaron.engine.intake import ChunkWorks, Intake, Wanted
from tessaron.engine.json_reading import JsonReading
from tessaron.engine.options import Options
from tessaron.engine.run_progress import Progress
from tessaron.sources.formats import Format, pass_over_unknown, recognise_format
from tessaron.sources.inputs import ByteInput, Input, name_of_inputs

if TYPE_CHECKING:
    from tessaron.core.layout.around_tables import AroundRecords
    from tessaron.core.layout.table_set import TableSet
    from tessaron.engine.xml_reading import XmlReading

NO_OBJECT = "no object stands here: nothing was changed by this path"


class LanguageReading(Protocol):
    """What reads inputs of one language; see `json_reading` and `xml_reading`."""

    def results(self) -> Iterator[tuple[str, Any, int]]:
        """Yield the source, what its next records became, and the records before them."""

    def records_path(self) -> str:
        """Return where the records stand in the documents."""

    def record_name(self) -> str | None:
        """Return what the records are called where they stand; None where nothing says it."""

    def forget_container(self, shape: Shape) -> None:
        """Take the places of the records, now empty, out of the documents' shape."""


class ReadsElsewhere(Protocol):
    """What has sources read elsewhere; see `parts.part_events`."""

    def works(self, works: ChunkWorks, wanted: Wanted) -> ChunkWorks:
        """Return what does elsewhere with chunks what `works` does here."""

    @property
    def events(self) -> EventsOf:
        """What tells of sources of JSON."""


@dataclass(slots=True)
class SourceReading:
    """Reads all inputs of a run, once.

    Attributes:
        intake: What was read so far.
        is_survey: Whether the profile of every path is wanted.
        selection: What is wanted of the records; None for everything.
        work: What is done with the records.
        around: What is done with the documents around them.
        structure: What was recognised in the structure of the records.
        without_object: Paths given for dictionaries at which no object stands.
        xml: What reads the sources if they are XML.
        wants_above: Whether values of the elements around records of XML are wanted with them.
        gathered: Trees whose nodes come together: given before reading, or else found.
        finds_trees: Whether trees are looked for.
        elsewhere: Has chunks, and whole sources, read elsewhere; None where all is done here.
    """

    inputs: list[Input]
    options: Options
    records: Feed
    documents: Feed
    progress: Progress
    mapper: Mapper
    is_survey: bool = False
    selection: Selection | None = None
    intake: Intake = field(init=False)
    work: Work = field(init=False)
    around: Work = field(init=False)
    structure: list[StructureNote] = field(default_factory=list)
    without_object: list[str] = field(default_factory=list)
    xml: XmlReading | None = None
    wants_above: bool = False
    gathered: tuple[Gathered, ...] = ()
    finds_trees: bool = True
    elsewhere: ReadsElsewhere | None = None
    _language: LanguageReading | None = None

    def __post_init__(self) -> None:
        self.intake = Intake(self.progress, still_wanted=self.options.first)
        for feed in (self.records, self.documents):
            feed.learners = Learners(self.options.kernel != "python")
            if self.options.memory is not None:
                feed.most_bytes = self.options.bounded_chunk_bytes()
        self.work, self.around = ShapeWork(self.records.learners), ShapeWork(self.documents.learners)

    def read_all(self) -> None:
        """Parse all inputs, and put what they hold aside."""
        for name, result, records_before in self.results():
            self.records.add(result, records_before, name)

    def results(self) -> Iterator[tuple[str, Any, int]]:
        """Parse all inputs; yield the source, what its next records became, and the records before them."""
        sizes = [entry.size for entry in self.inputs]
        self.progress.start(None if None in sizes else sum(size for size in sizes if size is not None))
        if self.options.skip_unknown and len(self.inputs) > 1:
            self.intake.notes += pass_over_unknown(self.inputs)
        found = self._recognised_format()
        wanted = Wanted(self.options, self.is_survey, self.selection, self.gathered, self.wants_above)
        works = ChunkWorks(self.mapper, self.work, self.around, self.records, self.documents)
        events: EventsOf = ChunkEvents
        if self.elsewhere is not None:
            works, events = self.elsewhere.works(works, wanted), self.elsewhere.events
        if found == "xml":
            from tessaron.engine.xml_reading import XmlReading

            self._language = self.xml = XmlReading(self.inputs, wanted, self.intake, works)
        else:
            self._language = JsonReading(self.inputs, wanted, self.intake, works, events)
        yield from self._language.results()

    def _recognised_format(self) -> Format:
        """Return what the sources are written in."""
        first = self.inputs[0] if self.inputs else None
        if not isinstance(first, ByteInput):
            found: Format = "json"
        else:
            found, self.inputs[0] = recognise_format(first)
        wanted = self.options.format
        if wanted is not None and wanted != found:
            name = first.name if first is not None else "the source"
            reason = f"expected {wanted.upper()}, as the layout says, got {found.upper()}"
            raise DataError(reason, Place(name))
        return found

    def top_name(self) -> str:
        """Return the name for the top table."""
        recognised = self._language.record_name() if self._language is not None else None
        return self.options.name or recognised or name_of_inputs(self.inputs)

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
        self.intake.passed += self.records.passed
        if self._language is not None:
            self._language.forget_container(self.documents.shape)
        mark_levels(self.records.shape.record, levels, fields)
        if self.xml is not None:
            self.xml.declare(self.records.shape.record)
        for feed in (self.records, self.documents):
            named -= object_paths(feed.shape, named)
            notes = settle(feed.shape, rules)
            found += notes
            self.structure += notes if feed is self.records else []
        self.without_object = sorted(named)
        self.intake.notes += [(path, NO_OBJECT) for path in self.without_object]
        self.intake.notes += [(format_path(note.path), note.text) for note in found]

    def _find_trees(self, rules: StructureRules) -> tuple[Gathered, ...]:
        """Find trees whose node names are data, and let their nodes come together in what was put aside."""
        if not self.gathered and not rules.is_markup and self.finds_trees:
            trees = find_trees(self.records, self.mapper, set(rules.not_dictionaries))
            self.records.gather(trees, self.mapper)
            self.gathered = tuple(tree.gathered for tree in trees)
        return self.gathered

    def records_path(self) -> str:
        """Return where the records stand in the documents, as JSONPath or XPath."""
        return "$" if self._language is None else self._language.records_path()

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
