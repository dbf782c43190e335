"""Tables in a folder, with the layout that says how documents are made of them."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from contextlib import ExitStack
from pathlib import Path
from typing import Any

import pyarrow as pa

from tessaron.core.base.arrays import ArrowRows
from tessaron.core.base.errors import Code, UsageError
from tessaron.core.base.parsed_values import Parsed
from tessaron.core.base.paths import Origin
from tessaron.core.layout.table_set import Table, written_tables
from tessaron.core.query.xpath_location import parse_location
from tessaron.core.rebuild.json_dialect import JsonDialect
from tessaron.core.rebuild.places import TablePlaces
from tessaron.core.rebuild.records import Dialect, records_of
from tessaron.core.rebuild.row_groups import GroupReader
from tessaron.core.rebuild.turning_back import WayBack, origin_columns, raw_columns, way_back
from tessaron.core.rebuild.xml_dialect import XmlDialect
from tessaron.decide.layout_file import Layout
from tessaron.prove.source_digests import Compared
from tessaron.sinks.target_folder import LAYOUT_FILE
from tessaron.sources.exported.table_folder import TableFolder
from tessaron.sources.exported.table_order import in_key_order
from tessaron.sources.forms.file_form import FileForm
from tessaron.write.books.receipt import read_receipt

_NAME = re.compile(r"[^\W\d][\w.-]*(?::[^\W\d][\w.-]*)?")
_PREDICATE = re.compile(r"""\[(?:[^\[\]"']|"[^"]*"|'[^']*')*\]""")


class KeyedTables:
    """The tables of a folder.

    Args:
        folder: Where they are.
        layout: How documents are made of them; else the layout in the folder.
        to_compare: Whether the documents are to be compared with their source, and not only made: then what
            is kept as it is written, columns in which values did not fit, and what is told of where records
            come from stay out of them: they are compared otherwise.

    Attributes:
        receipt: The receipt, as it stands in its file; empty where there is none.
        files: The files of the tables.
        layout: The layout.
        compiled: The layout made ready.
        way: How documents are made of the tables.

    Raises:
        SourceError: When the folder or the layout is missing.
    """

    def __init__(self, folder: str | Path, layout: Layout | None = None, to_compare: bool = False):
        self.receipt = read_receipt(Path(folder))
        if self.receipt.get("format") == "xlsx":
            raise UsageError(
                f"{folder}: holds a spreadsheet, which is for people; export CSV or Parquet for proof"
            )
        self.files = TableFolder(Path(folder), FileForm.of(self.receipt), "runs" in self.receipt)
        self.layout = layout or Layout.read(Path(folder) / LAYOUT_FILE)
        self.compiled = self.layout.compiled(secret=b"any")
        without = {}
        if to_compare:
            without = {**raw_columns(self.compiled), **origin_columns(self.compiled)}
            if not self.layout.part.exact:
                without |= _unfit(self.receipt, self.compiled.written().tables)
        self.way: WayBack = way_back(self.compiled, self.layout.part, without)

    @property
    def top(self) -> TablePlaces:
        """The table of the records, with all below it.

        Raises:
            UsageError: When no documents can be made by the layout.
        """
        if self.way.records is None:
            raise UsageError(self.way.fault)
        return self.way.records

    def compared(self) -> Compared:
        """Return what is compared of records of XML beside what is in them."""
        if not self.is_xml:
            return Compared()
        return Compared(self.way.around is not None, self.top.element is not None, self._is_any_way())

    def _is_any_way(self) -> bool:
        """Say whether the path to the records does not name all elements above them."""
        path = self.compiled.reading.records or "/*"
        return any(step.endswith("*") for step in path.partition("[")[0].split("/")[:-1])

    def written(self) -> list[Table]:
        """Return all tables, parents before children."""
        return list(self.compiled.written().tables)

    @property
    def is_xml(self) -> bool:
        """Whether XML is made."""
        return self.compiled.reading.format == "xml"

    def record_names(self) -> list[str]:
        """Return the names of the elements from the root to a record of XML, with prefixes."""
        path = self.compiled.reading.records or "/*"
        steps = _without_predicates(path).rpartition("|")[2].split("/")
        *around, own = (step.strip().removeprefix("child::") for step in steps)
        if not _NAME.fullmatch(own):
            given = self.compiled.reading.element
            own = given or parse_location(path).last_name() or self.top.table.name
        return [name for name in around if _NAME.fullmatch(name)] + [own]

    def record_path(self) -> str:
        """Return the path of plain names by which records of XML made of the tables are found."""
        *around, own = self.record_names()
        return "/".join(("", *around, own if self.top.element is None else "*"))

    def dialect(self, is_around: bool = False) -> Dialect:
        """Return how records, or documents around them, are written."""
        if not self.is_xml:
            return JsonDialect()
        names = self.record_names()
        return XmlDialect(names[0] if is_around else names[-1])

    def groups(self, top: TablePlaces) -> Iterator[ArrowRows]:
        """Yield the rows of the top table with all that stands in them, group by group."""
        known: dict[str, Any] = {}
        for lookup in (each for places in top.all() for each in places.lookups):
            (table,) = written_tables([lookup.table])
            if table.name not in known:
                # Each of its values has one row: there are not many.
                found = list(self.files.batches(table, lookup.columns()))
                empty = table.arrow_schema().empty_table()
                known[table.name] = pa.Table.from_batches(found) if found else empty
            lookup.rows = known[table.name]
        with ExitStack() as stack:
            yield from GroupReader(top, in_key_order(self.files, list(top.all()), stack))

    def records(self) -> Iterator[tuple[ArrowRows, ArrowRows]]:
        """Yield, group by group, the rows of the top table and the records made of them, as texts."""
        for group in self.groups(self.top):
            yield group.rows, records_of(self.top, group, self.dialect())

    def around(self) -> Iterator[tuple[ArrowRows, ArrowRows]]:
        """Yield, group by group, the rows of the documents and what stands in each around its records."""
        if self.way.around is not None:
            for group in self.groups(self.way.around):
                yield group.rows, records_of(self.way.around, group, self.dialect(is_around=True))

    def document_count(self) -> int:
        """Return how many documents the records stand in; 1 where nothing is known of them."""
        return 1 if self.way.around is None else sum(rows.num_rows for rows, _ in self.around())


def _unfit(receipt: dict[str, Parsed], tables: Iterable[Table]) -> dict[str, str]:
    """Return the columns in which values did not fit and became null, as the receipt tells.

    Where a table keeps the rest of its rows, what did not fit stands there, and comes back.
    """
    keeping = tuple(
        f"{table.name}."
        for table in tables
        if any(column.path[-1:] == (Origin.REST,) for column in table.columns)
    )
    return {
        found["name"]: "values that did not fit are null"
        for found in receipt.get("findings", ())
        if found.get("outcome") in ("value", "note")
        and found.get("code") not in (Code.NO_COLUMN, Code.NO_TEXT)
        and "." in found.get("name", "")
        and not found["name"].startswith(keeping)
    }


def _without_predicates(path: str) -> str:
    """Return an expression of XPath without what stands in brackets."""
    while (shorter := _PREDICATE.sub("", path)) != path:
        path = shorter
    return path
