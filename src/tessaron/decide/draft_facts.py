"""What a draft is written from: the settled shape of what was read, its tables, and remarks on every path."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from datetime import date

from tessaron._version import __version__
from tessaron.core.base.errors import UsageError
from tessaron.core.base.kinds import Kind
from tessaron.core.base.paths import Origin, format_path
from tessaron.core.layout.around_tables import draft_tables
from tessaron.core.layout.table_reasons import reasons_of
from tessaron.core.layout.table_set import Table, TableSet, by_written_name
from tessaron.core.layout.texts.layout_writing import Draft, Remark
from tessaron.core.model.division import UNDIVIDED
from tessaron.core.shape.shape_node import ShapeNode
from tessaron.decide.draft_parts import division_of_draft, with_lookups
from tessaron.engine.options import Options
from tessaron.engine.reading import SourceReading

_LONGEST_EXAMPLE = 24


def draft_of(reading: SourceReading, options: Options) -> Draft:
    """Return what a layout file is written from, for what was read and settled."""
    tables, around = tables_of_draft(reading, options)
    reading.note_unkept(tables)
    outer = () if around is None else around.tables
    remarks = _remarks(reading, reading.records.shape.record, tables)
    made = plain_draft(reading, options, tables, outer, remarks, _head(reading))
    return replace(made, reasons=reasons_of(tables, made.record))


def tables_of_draft(reading: SourceReading, options: Options) -> tuple[TableSet, TableSet | None]:
    """Return the tables that a layout file proposes, and those of what stands around the records.

    Raises:
        UsageError: When there are no records.
    """
    record = reading.records.shape.record
    if not record.row_count:
        raise UsageError("there are no records to draft a layout from")
    # A flat table has all that is above its rows, in whatever tables it would stand.
    division = UNDIVIDED if options.flat is not None else division_of_draft(reading, options)
    if options.lookups:
        division = with_lookups(division, reading)
    tables, around = draft_tables(
        record, reading.top_name(), reading.around_records(), options.names, options.exact, division
    )
    return replace(_without_own_origins(tables, options), natural_key=tuple(options.key)), around


def plain_draft(
    reading: SourceReading,
    options: Options,
    tables: TableSet,
    around: tuple[Table, ...],
    remarks: Mapping[str, Remark],
    head: Sequence[str],
) -> Draft:
    """Return what the layout of tables that are known already is written from."""
    return Draft(
        tables,
        reading.records.shape.record,
        remarks,
        _reading_keys(reading, options),
        around,
        head,
        {} if reading.xml is None else reading.xml.prefixes.by_prefix(),
        reading.documents.shape.record if around else None,
        gathered=reading.gathered,
    )


def _without_own_origins(tables: TableSet, options: Options) -> TableSet:
    """Return the tables without the columns that a survey adds, unless they were asked for."""
    if options.origin:
        return tables
    top = tables.tables[0]
    hidden = (Origin.FILE, Origin.RECORD, Origin.LINE, Origin.NUMBER)
    columns = tuple(column for column in top.columns if column.path[-1:] not in [(each,) for each in hidden])
    return replace(tables, tables=(replace(top, columns=columns), *tables.tables[1:]))


def _reading_keys(reading: SourceReading, options: Options) -> dict[str, object]:
    form = "json" if reading.xml is None else "xml"
    keys: dict[str, object] = {"format": form, "records": reading.records_path(), "keys": options.keys}
    if options.records is None and reading.records_path() == "$":
        del keys["records"]
    if not options.envelope:
        keys["envelope"] = False
    if options.duplicate_keys != "last":
        keys["duplicate_keys"] = options.duplicate_keys
    if options.names != "path":
        keys["names"] = options.names
    if options.white_space != "trim":
        keys["white_space"] = options.white_space
    if options.xsd is not None:
        keys["xsd"] = options.xsd
    if reading.xml is not None and (element := reading.xml.only_name()):
        keys["element"] = element
    return keys


def _head(reading: SourceReading) -> list[str]:
    sources = [entry.name for entry in reading.inputs]
    shown = ", ".join(sources[:3]) + (f" and {len(sources) - 3} more" if len(sources) > 3 else "")
    count = reading.records.shape.record_count
    records = f"{count:,} record{'s' * (count != 1)}"
    return [
        f"Drafted by Tessaron {__version__} on {date.today().isoformat()} from {records} of {shown}.",
        "Beside each column: how many of the rows have it, an example, what to know.",
    ]


def _remarks(reading: SourceReading, record: ShapeNode, tables: TableSet) -> Mapping[str, Remark]:
    found = dict(_each_remark(reading, record))
    for members in by_written_name(tables.tables).values():
        if members[0].place:
            found |= dict(_remarks_of_all(members, found, record))
    return found


def _remarks_of_all(
    members: Sequence[Table], known: Mapping[str, Remark], record: ShapeNode
) -> Iterator[tuple[str, Remark]]:
    """Yield what is known of each column of a shared table at all places, by its path at the first."""
    counts = [record.at(table.rows).row_count for table in members]
    rows = max(1, sum(_objects_at(table, record) for table in members))
    for number, column in enumerate(members[0].columns):
        paths = (format_path(table.columns[number].path) for table in members)
        remarks = [known.get(path, Remark(0.0)) for path in paths]
        filled = sum(count * (each.fill_rate or 0) for count, each in zip(counts, remarks, strict=True))
        example = next((each.example for each in remarks if each.example), "")
        note = next((each.note for each in remarks if each.note), "")
        yield format_path(column.path), Remark(filled / rows, example, note)


def _objects_at(table: Table, record: ShapeNode) -> int:
    """Return how many objects of a shared structure stand at the place of a table."""
    if not table.looked_up_at:
        return record.at(table.rows).row_count
    return record.at(table.looked_up_at).counts[Kind.OBJECT]


def _each_remark(reading: SourceReading, record: ShapeNode) -> Iterator[tuple[str, Remark]]:
    from tessaron.core.survey.survey_entries import SurveyMaker

    entries, notes = SurveyMaker(record, reading.structure, {}).make()
    said: dict[str, str] = {}
    for note in notes:
        if note.path not in said and note.code in _TOPICS:
            said[note.path] = note.text
    for entry in entries:
        example = entry.example.value if entry.example is not None else ""
        if len(example) > _LONGEST_EXAMPLE:
            example = example[: _LONGEST_EXAMPLE - 1] + "…"
        yield (
            entry.path,
            Remark(entry.fill_rate, f"e.g. {example}" if example else "", said.get(entry.path, "")),
        )


_TOPICS = frozenset(
    (
        "mixed kinds", "number", "grouped number", "date", "ambiguous date", "JSON", "placeholder",
        "surrounding spaces", "e-mail address", "phone number", "card number", "not all alike", "spellings",
        "long integers",
    )
)  # fmt: skip
"""The notes of a survey that say something about how a column is to be read."""
