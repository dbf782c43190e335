"""Making documents again from the tables of a folder."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Literal, get_args

from tessaron.core.base.errors import UsageError
from tessaron.core.base.visible import in_quotes
from tessaron.decide.layout_file import Layout
from tessaron.engine.run_progress import NoProgress, Progress
from tessaron.prove.database_copies import TablesAt, local_tables
from tessaron.prove.document_pieces import json_documents, record_groups, xml_documents, xml_records
from tessaron.prove.keyed_tables import KeyedTables
from tessaron.sinks.document_files import DocumentTarget

Form = Literal["lines", "array", "documents", "files"]


@dataclass(frozen=True, slots=True)
class Rebuilt:
    """What was made.

    Attributes:
        target: The file, or the folder of files.
        form: How the records stand in it: `lines`, `array`, `documents` or `files`.
        records: Records made.
        documents: Documents made.
        lost: Columns whose values went into no document, with the reason.
    """

    target: str
    form: str
    records: int
    documents: int
    lost: dict[str, str]


def rebuild(
    folder: str | Path,
    target: str | Path,
    *,
    form: Form | None = None,
    layout: Layout | None = None,
    replace: bool = False,
    progress: Progress | None = None,
    schema: str | None = None,
    runs_schema: str | None = None,
    name: str | None = None,
    password: str | None = None,
) -> Rebuilt:
    """Make documents again from the tables in a folder, in one pass over each.

    Args:
        folder: The folder of an export, or of other tables with primary and foreign keys; the URL of one in a
            store, or of a database that runs have loaded.
        target: The file to write, or the folder for several files. It appears whole or not at all.
        form: `lines` (one record a line), `array` (one JSON array), `documents` (as they were, with what
            stood around the records), `files` (a file for each record). Else `documents` where the tables
            know of them, an array for a file that ends in `.json`, and else lines.
        layout: What the documents are to look like; else the layout in the folder.
        replace: Whether a target that is there may be replaced.
        progress: Is told how far it is.
        schema: Of a database: the schema that the tables stand in.
        runs_schema: The schema of its table of runs; else that.
        name: Its table of records, where several have been loaded.
        password: Where its password stands, as in `load`.

    Returns:
        What was made.

    Raises:
        SourceError: When a table or the layout is missing or cannot be read.
        DataError: When a value is not of its type, or a row belongs to none.
        TargetError: When the target cannot be written.
        UsageError: When the form cannot be right.
    """
    if form is not None and form not in get_args(Form):
        raise UsageError(f"expected a form of {', '.join(get_args(Form))}, got {in_quotes(form)}")
    with local_tables(TablesAt(folder, schema, runs_schema, name, password)) as here:
        return _made(KeyedTables(here, layout), target, form, replace, progress or NoProgress())


def _made(
    tables: KeyedTables, target: str | Path, form: Form | None, replace: bool, progress: Progress
) -> Rebuilt:
    chosen = form or _form_for(tables, str(target))
    if tables.is_xml and chosen in ("lines", "array"):
        raise UsageError(f"{chosen} is for JSON; XML is made as documents or files")
    if chosen == "documents" and not tables.is_xml and tables.way.around is None:
        raise UsageError("nothing is known of what stood around the records; make lines, an array or files")
    is_folder = chosen == "files" or (tables.is_xml and tables.document_count() > 1)
    with DocumentTarget(Path(target), is_folder, "xml" if tables.is_xml else "json", replace) as written:
        records, documents = _MAKERS[chosen](tables, written, progress)
        written.commit()
    return Rebuilt(str(target), chosen, records, documents, tables.way.lost)


def _form_for(tables: KeyedTables, target: str) -> Form:
    if tables.is_xml or tables.way.around is not None:
        return "documents"
    return "array" if target.endswith(".json") else "lines"


def _make_lines(tables: KeyedTables, target: DocumentTarget, progress: Progress) -> tuple[int, int]:
    count = 0
    for texts in record_groups(tables, progress):
        count += len(texts)
        target.write("".join(f"{text}\n" for text in texts))
    return count, count


def _make_array(tables: KeyedTables, target: DocumentTarget, progress: Progress) -> tuple[int, int]:
    """Write one array; a single record, which was a document of its own, stands without one."""
    count, first = 0, ""
    for texts in record_groups(tables, progress):
        pieces = texts
        if not count:
            first, pieces = texts[0], texts[1:]
        elif count == 1:
            target.write(f"[\n{first}")
        if not count and pieces:
            target.write(f"[\n{first}")
        target.write("".join(f",\n{text}" for text in pieces))
        count += len(texts)
    target.write(f"{first}\n" if count == 1 else "\n]\n" if count else "[]\n")
    return count, 1


def _make_documents(tables: KeyedTables, target: DocumentTarget, progress: Progress) -> tuple[int, int]:
    """Write documents as they were: JSON one a line, XML a file for each where there are several."""
    records = documents = 0
    make = xml_documents if tables.is_xml else json_documents
    for pieces in make(tables, progress):
        target.start()
        documents += 1
        for text, count in pieces:
            records += count
            target.write(text)
        target.write("\n")
    return records, documents


def _make_files(tables: KeyedTables, target: DocumentTarget, progress: Progress) -> tuple[int, int]:
    count = 0
    texts: Iterator[str] = (
        xml_records(tables, progress)
        if tables.is_xml
        else (text for group in record_groups(tables, progress) for text in group)
    )
    for text in texts:
        count += 1
        target.start()
        target.write(f"{text}\n")
    return count, count


_MAKERS: dict[str, Callable[[KeyedTables, DocumentTarget, Progress], tuple[int, int]]] = {
    "lines": _make_lines,
    "array": _make_array,
    "documents": _make_documents,
    "files": _make_files,
}
