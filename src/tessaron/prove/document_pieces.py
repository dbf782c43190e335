"""Documents made of tables, piece by piece: what stands around the records, and the records inside."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import Any, NamedTuple
from xml.sax.saxutils import quoteattr

import numpy as np
from lxml import etree

from tessaron.core.base.errors import Code, DataError, Place
from tessaron.core.base.json_text import json_text
from tessaron.core.base.parsed_values import Pairs, XmlElement
from tessaron.core.kernel.careful_json import parse_carefully
from tessaron.core.kernel.xml_parsing import safe_parser
from tessaron.core.markup.tokens import RECORDS_MARK
from tessaron.core.query.jsonpath import parse_path
from tessaron.core.rebuild.xml_dialect import with_namespaces
from tessaron.engine.run_progress import Progress
from tessaron.prove.keyed_tables import KeyedTables

_SLOT = re.compile(rf"<\?{RECORDS_MARK}(?: [0-9]*)?\?>")
_JSON_SLOT = "tessaron-records-stand-here"
Piece = tuple[str, int]
"""A piece of a document, and how many records it has."""


class DocumentGroup(NamedTuple):
    """Records as texts, with their keys if they have any, and the numbers of the elements they stand in."""

    texts: list[str]
    keys: list[str] | None = None
    enclosing: Sequence[int] = ()


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
    around: str, names: tuple[str, ...], records: Iterator[DocumentGroup], has_keys: bool
) -> Iterator[Piece]:
    document, _ = parse_carefully(around, 0)
    whole = json_text(_with_slot(document, names), ascii_only=False)
    head, _, tail = whole.partition(f'"{_JSON_SLOT}"')
    opening, closing = "{}" if has_keys else "[]"
    yield head + opening, 0
    between = ""
    for texts, keys, _ in records:
        pairs = texts if not has_keys else [
            f"{json_text(key, ascii_only=False)}:{text}" for key, text in zip(keys or (), texts, strict=True)
        ]  # fmt: skip
        yield between + ",\n".join(pairs), len(texts)
        between = ",\n"
    yield closing + tail, 0


def _with_slot(document: XmlElement, names: tuple[str, ...]) -> XmlElement:
    """Return a document with a mark where its records stand."""
    if not names:
        return _JSON_SLOT
    members = dict(document.items() if isinstance(document, dict) else document or ())
    members[names[0]] = _with_slot(members.get(names[0]), names[1:])
    return Pairs(members.items())


def _inside(tables: KeyedTables, progress: Progress) -> Iterator[tuple[str, Iterator[DocumentGroup]]]:
    """Yield what stands around the records of each document, and these, group by group."""
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
        self._enclosing = tables.top.table.enclosing_key
        self._places = tables.top
        self._table = tables.top.table.name
        self._progress = progress
        self._kept: tuple[Any, Any] | None = None
        self._count = 0

    def of_document(self, number: XmlElement) -> Iterator[DocumentGroup]:
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
                first = rows.slice(0, count)
                keys = self._places.keys_of(first)
                yield DocumentGroup(
                    texts.slice(0, count).to_pylist(),
                    None if keys is None else keys.to_pylist(),
                    first.column(self._enclosing).to_pylist() if self._enclosing else [],
                )
            if count < len(owners):
                self._kept = rows.slice(count), texts.slice(count)
                return

    def check_none_left(self) -> None:
        """Check that every record stood in a document."""
        if self._kept is not None or next(self._groups, None) is not None:
            reason = f"row {self._count + 1:,} belongs to a document that is not there or stands further up"
            raise DataError(reason, Place(self._table), Code.FOREIGN_KEY)


def xml_documents(tables: KeyedTables, progress: Progress) -> Iterator[Iterator[Piece]]:
    """Yield documents of XML, each as its pieces."""
    names = tables.record_names()
    if tables.way.around is None:
        if len(names) == 1 and tables.top.table.parent is None:
            yield from _root_documents(tables, progress)
            return
        groups = (DocumentGroup(texts) for texts in record_groups(tables, progress))
        yield _Places(tables, names).pieces(f"<{names[0]}/>", groups)
        return
    places = _Places(tables, names)
    for around, records in _inside(tables, progress):
        yield places.pieces(around, records)


def _root_documents(tables: KeyedTables, progress: Progress) -> Iterator[Iterator[Piece]]:
    for text in xml_records(tables, progress):
        yield iter([(text, 1)])


@dataclass(frozen=True, slots=True)
class _Slot:
    """A place of records in a document.

    Attributes:
        element: The position, among those that records refer to, of the element that they stand in.
        count: So many stand there; None for all that are left.
        missing: The tags of elements around them that are not in the document.
    """

    element: int
    count: int | None = None
    missing: tuple[str, ...] = ()

    def opening(self) -> str:
        """Return the start tags of the elements that are not there."""
        return "".join(map(_opening_of, self.missing))

    def closing(self) -> str:
        """Return their end tags."""
        return "".join(f"</{etree.QName(tag).localname}>" for tag in reversed(self.missing))


class _Places:
    """Puts records back into the elements that they stood in.

    Args:
        tables: The tables.
        names: The names of the elements from the root to a record, with prefixes.
    """

    def __init__(self, tables: KeyedTables, names: list[str]):
        self._namespaces = tables.compiled.reading.namespaces
        self._keeps_space = tables.compiled.reading.white_space == "keep"
        self._tags = [self._tag(name) for name in names[1:-1]]
        self._outwards = tables.top.table.outwards()
        self._before = 0

    def _tag(self, name: str) -> str:
        prefix, _, local = name.rpartition(":")
        return f"{{{self._namespaces[prefix]}}}{local}" if prefix in self._namespaces else local

    def pieces(self, around: str, records: Iterator[DocumentGroup]) -> Iterator[Piece]:
        """Yield the pieces of a document: what stands around its records, and these where they stood."""
        root = etree.fromstring(with_namespaces(around, self._namespaces).encode(), safe_parser())
        slots = [slot for each in enumerate(self._numbered(root)) for slot in self._slots(*each)]
        end = "" if self._keeps_space or _is_mixed(root) else "\n"
        head, *between = _SLOT.split(etree.tostring(root, encoding="unicode"))
        yield f'<?xml version="1.0" encoding="UTF-8"?>\n{head}', 0
        at, count = 0, 0
        for texts, number in self._by_place(records):
            left = texts
            while left:
                if self._is_full(slots, at, count, number):
                    yield (slots[at].closing() if count else "") + between[at], 0
                    at, count = at + 1, 0
                    continue
                room = slots[at].count if at < len(slots) - 1 else None
                taken = left if room is None else left[: room - count]
                lead = "" if count else end + slots[at].opening()
                yield lead + "".join(f"{text}{end}" for text in taken), len(taken)
                count += len(taken)
                left = left[len(taken) :]
        for index, rest in enumerate(between[at:], at):
            yield (slots[index].closing() if count and index == at else "") + rest, 0
        self._before += slots[-1].element + 1 if slots else 0

    def _is_full(self, slots: list[_Slot], at: int, count: int, number: int | None) -> bool:
        """Say whether the next record does not stand in a slot that has `count` already."""
        if at == len(slots) - 1:
            return False
        slot = slots[at]
        if number is not None and self._before + slot.element + 1 < number:
            return True
        return slot.count is not None and count >= slot.count and slots[at + 1].element == slot.element

    def _numbered(self, root: XmlElement) -> list[XmlElement]:
        """Return the elements that records refer to, in order; where they refer to none, the document."""
        found = [root]
        for tag in [] if self._outwards is None else self._tags[: len(self._tags) - self._outwards]:
            found = [child for place in found for child in place.findall(tag)]
        return found

    def _slots(self, index: int, element: XmlElement) -> list[_Slot]:
        """Return where records stand in an element, which is marked there."""
        tags = self._tags if self._outwards is None else self._tags[len(self._tags) - self._outwards :]
        for count, tag in enumerate(tags):
            found = element.find(tag)
            if found is None:
                element.append(etree.ProcessingInstruction(RECORDS_MARK))
                return [_Slot(index, None, tuple(tags[count:]))]
            element = found
        known = element.xpath(f"processing-instruction('{RECORDS_MARK}')")
        if not known:
            known = [etree.ProcessingInstruction(RECORDS_MARK)]
            element.append(known[0])
        return [_Slot(index, int(each.text) if each.text else None) for each in known]

    def _by_place(self, records: Iterator[DocumentGroup]) -> Iterator[tuple[list[str], int | None]]:
        """Yield records that stand in one element, with its number; None where that is not known."""
        for texts, _, enclosing in records:
            if not enclosing:
                yield texts, None
                continue
            changes = np.flatnonzero(np.diff(enclosing)) + 1
            bounds = [0, *changes.tolist(), len(texts)]
            for start, stop in pairwise(bounds):
                yield texts[start:stop], enclosing[start]


def _is_mixed(root: XmlElement) -> bool:
    """Say whether a line break beside a record would be part of a text."""
    for mark in root.iter(etree.ProcessingInstruction):
        place = mark.getparent()
        if place.xpath("ancestor-or-self::*[@xml:space='preserve'] or text()[normalize-space()]"):
            return True
    return False


def _opening_of(tag: str) -> str:
    name = etree.QName(tag)
    return f"<{name.localname} xmlns={quoteattr(name.namespace)}>" if name.namespace else f"<{tag}>"


def xml_records(tables: KeyedTables, progress: Progress) -> Iterator[str]:
    """Yield each record as an XML document of its own."""
    namespaces = tables.compiled.reading.namespaces
    for texts in record_groups(tables, progress):
        for text in texts:
            yield f'<?xml version="1.0" encoding="UTF-8"?>\n{with_namespaces(text, namespaces)}'
