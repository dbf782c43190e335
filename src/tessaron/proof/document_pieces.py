"""Documents made of tables, piece by piece: what stands around the records, and the records inside."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from lxml import etree

from tessaron.core.errors import DataError, Place
from tessaron.core.json_text import json_text
from tessaron.core.jsonpath import parse_path
from tessaron.core.kernel.careful_json import parse_carefully
from tessaron.core.kernel.values import Pairs
from tessaron.core.kernel.xml_parsing import safe_parser
from tessaron.core.rebuilding.xml_dialect import with_namespaces
from tessaron.feeds import Progress
from tessaron.proof.keyed_tables import KeyedTables

_SLOT = "tessaron-records-stand-here"
Piece = tuple[str, int]
"""A piece of a document, and how many records it has."""


def record_groups(tables: KeyedTables, progress: Progress) -> Iterator[list[str]]:
    """Yield the records as texts, group by group."""
    count = 0
    for _, texts in tables.records():
        count += len(texts)
        progress.write(count, count)
        yield texts.to_pylist()


def json_documents(tables: KeyedTables, progress: Progress) -> Iterator[Iterator[Piece]]:
    """Yield documents of JSON, each as its pieces."""
    path = parse_path(tables.compiled.reading.records or "$")
    names = path.plain_names() or ()
    for around, records in _inside(tables, progress):
        yield _json_pieces(around, tuple(names), records, tables.top.key is not None)


def _json_pieces(
    around: str, names: tuple[str, ...], records: Iterator[tuple[Any, list[str]]], has_keys: bool
) -> Iterator[Piece]:
    document, _ = parse_carefully(around, 0)
    whole = json_text(_with_slot(document, names), ascii_only=False)
    head, _, tail = whole.partition(f'"{_SLOT}"')
    opening, closing = "{}" if has_keys else "[]"
    yield head + opening, 0
    between = ""
    for keys, texts in records:
        pairs = texts if not has_keys else [
            f"{json_text(key, ascii_only=False)}:{text}" for key, text in zip(keys, texts, strict=True)
        ]  # fmt: skip
        yield between + ",\n".join(pairs), len(texts)
        between = ",\n"
    yield closing + tail, 0


def _with_slot(document: Any, names: tuple[str, ...]) -> Any:
    """Return a document with a mark where its records stand."""
    if not names:
        return _SLOT
    members = dict(document.items() if isinstance(document, dict) else document or ())
    members[names[0]] = _with_slot(members.get(names[0]), names[1:])
    return Pairs(members.items())


def _inside(tables: KeyedTables, progress: Progress) -> Iterator[tuple[str, Iterator[tuple[Any, list[str]]]]]:
    """Yield what stands around the records of each document, and these, group by group, with their keys."""
    records = _Records(tables, progress)
    assert tables.way.around is not None
    key = tables.way.around.table.row_key
    for rows, texts in tables.around():
        for number, text in zip(rows.column(key).to_pylist(), texts.to_pylist(), strict=True):
            yield text, records.of_document(number)
    records.check_none_left()


class _Records:
    """The records, in runs of one document."""

    def __init__(self, tables: KeyedTables, progress: Progress):
        self._groups = tables.records()
        self._column = tables.top.table.document_key
        self._places = tables.top
        self._table = tables.top.table.name
        self._progress = progress
        self._kept: tuple[Any, Any] | None = None
        self._count = 0

    def of_document(self, number: Any) -> Iterator[tuple[Any, list[str]]]:
        """Yield the next records, as long as they stand in this document."""
        while True:
            group = self._kept or next(self._groups, None)
            self._kept = None
            if group is None:
                return
            rows, texts = group
            owners = rows.column(self._column).to_pylist() if self._column else [number] * len(texts)
            count = next((at for at, owner in enumerate(owners) if owner != number), len(owners))
            if count:
                self._count += count
                self._progress.write(self._count, self._count)
                keys = self._places.keys_of(rows.slice(0, count))
                yield None if keys is None else keys.to_pylist(), texts.slice(0, count).to_pylist()
            if count < len(owners):
                self._kept = rows.slice(count), texts.slice(count)
                return

    def check_none_left(self) -> None:
        """Check that every record stood in a document."""
        if self._kept is not None or next(self._groups, None) is not None:
            reason = f"row {self._count + 1:,} belongs to a document that is not there or stands further up"
            raise DataError(reason, Place(self._table), "foreign_key")


def xml_documents(tables: KeyedTables, progress: Progress) -> Iterator[Iterator[Piece]]:
    """Yield documents of XML, each as its pieces."""
    names = tables.record_names()
    namespaces = tables.compiled.reading.namespaces
    if tables.way.around is None:
        if len(names) == 1 and tables.top.table.parent is None:
            yield from _root_documents(tables, progress)
            return
        around = f"<{names[0]}/>"
        yield _xml_pieces(
            around, names, namespaces, ((None, texts) for texts in record_groups(tables, progress))
        )
        return
    for around, records in _inside(tables, progress):
        yield _xml_pieces(around, names, namespaces, records)


def _root_documents(tables: KeyedTables, progress: Progress) -> Iterator[Iterator[Piece]]:
    for text in xml_records(tables, progress):
        yield iter([(text, 1)])


def _xml_pieces(
    around: str, names: list[str], namespaces: Any, records: Iterator[tuple[Any, list[str]]]
) -> Iterator[Piece]:
    root = etree.fromstring(with_namespaces(around, namespaces).encode(), safe_parser())
    place = root
    for name in names[1:-1]:
        prefix, _, local = name.rpartition(":")
        tag = f"{{{namespaces[prefix]}}}{local}" if prefix in namespaces else local
        found = place.find(tag)
        place = etree.SubElement(place, tag) if found is None else found
    place.append(etree.ProcessingInstruction(_SLOT, "x"))
    head, _, tail = etree.tostring(root, encoding="unicode").partition(f"<?{_SLOT} x?>")
    yield f'<?xml version="1.0" encoding="UTF-8"?>\n{head}\n', 0
    for _, texts in records:
        yield "".join(f"{text}\n" for text in texts), len(texts)
    yield tail, 0


def xml_records(tables: KeyedTables, progress: Progress) -> Iterator[str]:
    """Yield each record as an XML document of its own."""
    namespaces = tables.compiled.reading.namespaces
    for texts in record_groups(tables, progress):
        for text in texts:
            yield f'<?xml version="1.0" encoding="UTF-8"?>\n{with_namespaces(text, namespaces)}'
