"""The survey: what a settled shape says of every path, in the order of the data, with notes."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field, replace
from decimal import Decimal

from tessaron.core.base.kinds import SCALAR_KINDS, Kind
from tessaron.core.base.paths import ELEMENT, RECORD_STEP, Each, Path, Step, format_path, plain_name
from tessaron.core.shape.inference import infer_type
from tessaron.core.shape.profile import Example
from tessaron.core.shape.shape_node import ShapeNode
from tessaron.core.shape.structure import StructureNote
from tessaron.core.shape.uniques import Repeats
from tessaron.core.survey.noticing import SurveyNote, find_notes

KIND_NAMES = {
    Kind.NULL: "null",
    Kind.BOOLEAN: "boolean",
    Kind.INTEGER: "integer",
    Kind.LONG_INTEGER: "integer",
    Kind.FRACTION: "fraction",
    Kind.TEXT: "text",
    Kind.OBJECT: "object",
    Kind.ARRAY: "array",
}
_MOST_FREQUENT = 3


@dataclass(frozen=True, slots=True)
class PathEntry:
    """What is known of one path.

    Attributes:
        path: The path, as JSONPath; an element of arrays is `[*]`, an entry of a dictionary `.*`.
        name: Its last step.
        depth: How deep it stands below the record, which has 0.
        rows: Rows of the level it belongs to: records, elements or entries.
        filled: How many of them have a value here that is not null.
        kinds: How often each kind was met, the most frequent first.
        type: The type that a column would get; empty where only objects and arrays stand.
        type_note: Why the type is wider than one might expect; or empty.
        distinct: How many different scalars; None where there are none.
        is_exact: Whether `distinct` is exact, else an estimate (standard error 1.6 %).
        least, most: The smallest and largest value as text; None where there are none.
        frequent: The most frequent values, as JSON, with their counts; only where few are different.
        elements: Of arrays: the least, mean and most elements; else None.
        example: A value with its place.
        opens_level: Whether rows are counted here: for the record, elements and entries.
    """

    path: str
    name: str
    depth: int
    rows: int
    filled: int
    kinds: Mapping[str, int]
    type: str
    type_note: str
    distinct: int | None
    is_exact: bool
    least: str | None
    most: str | None
    frequent: tuple[tuple[str, int], ...]
    elements: tuple[int, float, int] | None
    example: Example | None
    opens_level: bool

    @property
    def fill_rate(self) -> float:
        """The share of the rows with a value that is not null, from 0 to 1."""
        return self.filled / self.rows if self.rows else 0.0


@dataclass(frozen=True, slots=True)
class LikePlaces:
    """A structure that stands in several places.

    Attributes:
        name: What it is called in most of them.
        paths: The places, as JSONPath, that of most objects first.
        fields: How many fields it has.
    """

    name: str
    paths: tuple[str, ...]
    fields: int


@dataclass(frozen=True, slots=True)
class SurveyFacts:
    """All that a survey found.

    Attributes:
        entries: The paths, each before those below it, in the usual order of the data.
        notes: What to know before loading.
        records: Records read.
        is_partial: Whether there are more records, which were not read.
        shape: The settled shape.
        sources: Names of what was read.
        records_path: Where the records stand in the documents, as JSONPath; `$` for the documents.
        taken: With a layout: for each path the columns that take its values.
        structures: Those that stand in several places.
    """

    entries: tuple[PathEntry, ...]
    notes: tuple[SurveyNote, ...]
    records: int
    is_partial: bool
    shape: ShapeNode
    sources: tuple[str, ...]
    records_path: str = "$"
    taken: Mapping[str, tuple[str, ...]] | None = None
    structures: tuple[LikePlaces, ...] = ()


@dataclass(frozen=True, slots=True)
class _Visit:
    node: ShapeNode
    path: Path
    depth: int
    rows: int


def survey_entries(record: ShapeNode) -> Iterator[tuple[PathEntry, ShapeNode, Path]]:
    """Yield what is known of each path of a settled shape that was profiled, with its node and path."""
    pending = [_Visit(record, (), 0, record.row_count)]
    while pending:
        visit = pending.pop()
        if visit.node.occurrences or visit.node.row_count:
            yield _entry(visit), visit.node, visit.path
        pending.extend(reversed(list(_below(visit))))


def _below(visit: _Visit) -> Iterator[_Visit]:
    node, rows = visit.node, visit.rows
    for level in node.levels_below():
        assert level.step is not None
        yield _Visit(level, (*visit.path, level.step), visit.depth + 1, level.row_count)
    for member in node.ordered_members():
        assert member.step is not None
        yield _Visit(member, (*visit.path, member.step), visit.depth + 1, rows)


def _entry(visit: _Visit) -> PathEntry:
    node, path = visit.node, visit.path
    profile = node.profile
    inferred = infer_type(node) if node.scalar_kinds() else None
    kinds: dict[str, int] = {}
    for kind in sorted(Kind, key=lambda kind: -node.counts[kind]):
        if node.counts[kind]:
            # In XML all values are texts, whatever they read as.
            name = KIND_NAMES[Kind.TEXT if node.is_markup and kind in SCALAR_KINDS else kind]
            kinds[name] = kinds.get(name, 0) + node.counts[kind]
    scalars = sum(node.counts[kind] for kind in node.scalar_kinds())
    distinct = profile.distinct if profile is not None and scalars else None
    least, most = _ends(node)
    return PathEntry(
        path=format_path(path) if path or not node.is_markup else RECORD_STEP,
        name=_name_of(path[-1] if path else None, node.is_markup),
        depth=visit.depth,
        rows=visit.rows,
        filled=node.occurrences - node.counts[Kind.NULL] - _empties(node),
        kinds=kinds,
        type=str(inferred.type) if inferred is not None else "",
        type_note=inferred.note if inferred is not None else "",
        distinct=None if distinct is None else min(distinct.estimate(), scalars),
        is_exact=distinct is None or distinct.is_exact,
        least=least,
        most=most,
        frequent=_frequent(node),
        elements=_elements(node),
        example=_example(node),
        opens_level=not path or isinstance(path[-1], Each),
    )


def _empties(node: ShapeNode) -> int:
    """Return how many are empty in a column that is no text: they are null in it."""
    kinds = node.scalar_kinds()
    return node.empty_texts if node.is_markup and kinds and Kind.TEXT not in kinds else 0


def _name_of(step: Step | None, is_markup: bool) -> str:
    if step is None:
        return RECORD_STEP if is_markup else "$"
    if step is ELEMENT and is_markup:
        return "each"
    return plain_name(step) if isinstance(step, str) else str(step.value)


def _ends(node: ShapeNode) -> tuple[str | None, str | None]:
    profile = node.profile
    if profile is None:
        return None, None
    if profile.least_text is not None and not any(
        node.counts[kind] for kind in (Kind.INTEGER, Kind.LONG_INTEGER, Kind.FRACTION)
    ):
        return profile.least_text, profile.most_text
    lows = [str(n) for n in (node.least_integer, profile.least_number) if n is not None]
    highs = [str(n) for n in (node.most_integer, profile.most_number) if n is not None]
    if not lows:
        return None, None
    return min(lows, key=Decimal), max(highs, key=Decimal)


def _frequent(node: ShapeNode) -> tuple[tuple[str, int], ...]:
    profile = node.profile
    if profile is None or profile.distinct.counts is None:
        return ()
    found = sorted(profile.distinct.counts.values(), key=lambda pair: (-pair[1], pair[0]))
    return tuple(found[:_MOST_FREQUENT])


def _elements(node: ShapeNode) -> tuple[int, float, int] | None:
    profile = node.profile
    element = node.children.get(ELEMENT)
    if node.is_lifted and element is not None and node.counts[Kind.OBJECT] and profile is not None:
        arrays = profile.arrays + node.counts[Kind.OBJECT]
        least = min(1, profile.least_elements) if profile.arrays else 1
        total = profile.elements + node.counts[Kind.OBJECT]
        return least, total / arrays, max(1, profile.most_elements)
    if profile is None or not profile.arrays:
        return None
    return profile.least_elements, profile.elements / profile.arrays, profile.most_elements


def _example(node: ShapeNode) -> Example | None:
    if node.profile is None:
        return None
    for kind in (*node.scalar_kinds(), Kind.NULL):
        if kind.name in node.profile.examples:
            return node.profile.examples[kind.name]
    return None


@dataclass(slots=True)
class SurveyMaker:
    """Makes a survey of a settled shape.

    Attributes:
        record: The shape.
        structure: What was recognised while it was settled.
        repeats: For paths that look like keys: how often values repeat.
    """

    record: ShapeNode
    structure: list[StructureNote] = field(default_factory=list)
    repeats: Mapping[Path, Repeats] = field(default_factory=dict)

    def make(self) -> tuple[tuple[PathEntry, ...], tuple[SurveyNote, ...]]:
        """Return the entries and the notes."""
        entries: list[PathEntry] = []
        notes: list[SurveyNote] = []
        structure: dict[Path, list[StructureNote]] = {}
        for found in self.structure:
            structure.setdefault(found.path, []).append(found)
        for entry, node, path in survey_entries(self.record):
            known = self.repeats.get(path)
            if known is not None and entry.distinct is not None:
                scalars = sum(node.counts[kind] for kind in node.scalar_kinds())
                distinct = scalars - known.rows + known.repeated
                entries.append(replace(entry, distinct=distinct, is_exact=True))
            else:
                entries.append(entry)
            notes += find_notes(entry.path, node, entry.rows, structure.get(path, ()), self.repeats.get(path))
        return tuple(entries), tuple(notes)
