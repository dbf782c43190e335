"""Answers as documents, JSON or XML: what they say at a path, and with more put into their records."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from copy import deepcopy
from functools import lru_cache
from itertools import islice
from typing import Protocol

from lxml import etree

from tessaron.core.base.errors import UsageError
from tessaron.core.base.json_text import json_text
from tessaron.core.base.parsed_values import Parsed, XmlElement
from tessaron.core.cutting.separator import Separator
from tessaron.core.kernel.contract import KernelOptions
from tessaron.core.kernel.record_reader import RecordReader
from tessaron.core.kernel.xml_parsing import safe_parser
from tessaron.core.markup.namespaces import Prefixes
from tessaron.core.query.jsonpath import parse_path
from tessaron.core.query.jsonpath_syntax import Query
from tessaron.core.query.xpath_results import Expression


class Document(Protocol):
    """What an answer says."""

    def all_at(self, path: str) -> list[Parsed]:
        """Return the values that a path leads to: of JSON as they are, of XML their texts."""

    def count(self, records: str | None) -> int:
        """Return how many records stand at a path; by themselves where there is none."""

    def with_more(self, records: str | None, path: str, under: str, more: More) -> bytes:
        """Return the document with more in its records.

        Args:
            records: Where the records stand.
            path: What leads, in a record, to what is asked about.
            under: The member of the record that has the answers.
            more: Gives the answers to all that is asked about, in their order.
        """


_path = lru_cache(maxsize=64)(parse_path)

More = Callable[[list[str]], list["Document | None"]]


class JsonDocument:
    """An answer in JSON."""

    def __init__(self, value: Parsed):
        self.value = value

    def all_at(self, path: str) -> list[Parsed]:
        """Return the values that a path leads to."""
        return [found.value for found in _path(path).find(self.value)]

    def count(self, records: str | None) -> int:
        """Return how many records stand at a path."""
        return len(self.records_at(records))

    def with_more(self, records: str | None, path: str, under: str, more: More) -> bytes:
        """Return the document with more in its records; a path to one thing gives one answer, others a list.

        Raises:
            UsageError: When a record is no object, or has a member of that name.
        """
        is_one = Query(_path(path).segments, True).is_singular()
        found = [(record, JsonDocument(record).all_at(path)) for record in self.records_at(records)]
        for record, _ in found:
            if not isinstance(record, dict):
                raise UsageError(f"each: expected records that are objects, got {json_text(record)[:40]}")
            if under in record:
                raise UsageError(f"each: the records have a member {under} already; put it under another")
        wanted = [(record, each) for record, all_of_it in found for each in all_of_it if each is not None]
        answers = more([_asked_about(each) for _, each in wanted])
        for record, _ in found:
            if not is_one:
                record[under] = []
        for (record, _), answer in zip(wanted, answers, strict=True):
            value = None if answer is None else _as_member(answer)
            if is_one:
                record[under] = value
            else:
                record[under].append(value)
        return json_text(self.value, ascii_only=False).encode("utf-8", "surrogatepass")

    def each_record(self, path: str | None) -> list[JsonDocument]:
        """Return the records at a path, each by itself."""
        return [JsonDocument(each) for each in self.records_at(path)]

    def records_at(self, path: str | None) -> list[Parsed]:
        """Return the records at a path; without one the elements of an array, or the document."""
        if path is not None:
            return self.all_at(path)
        return self.value if isinstance(self.value, list) else [self.value]


class XmlDocument:
    """An answer in XML."""

    def __init__(self, root: XmlElement, spaces: dict[str, str] | None = None):
        self.root, self._spaces = root, spaces

    def all_at(self, path: str) -> list[Parsed]:
        """Return the texts of what a path leads to."""
        context = self.root.getroottree() if self.root.getparent() is None else self.root
        return _texts_at(context, path, self._namespaces())

    def count(self, records: str | None) -> int:
        """Return how many records stand at a path."""
        return len(self.records_at(records))

    def with_more(self, records: str | None, path: str, under: str, more: More) -> bytes:
        """Return the document with more in its records: an element each, which holds the answer."""
        found = [
            (record, each)
            for record in self.records_at(records)
            for each in _texts_at(record, path, self._namespaces())
        ]
        for (record, _), answer in zip(found, more([each for _, each in found]), strict=True):
            holder = etree.SubElement(record, under)
            if isinstance(answer, XmlDocument):
                # One answer may be that to several questions.
                holder.append(deepcopy(answer.root))
            elif answer is not None:
                holder.text = json_text(_as_member(answer), ascii_only=False)
        return bytes(etree.tostring(self.root, encoding="utf-8"))

    def _namespaces(self) -> dict[str, str]:
        """Return namespaces by prefix, as paths have them everywhere."""
        if self._spaces is None:
            prefixes = Prefixes()
            for element in self.root.iter(etree.Element):
                for prefix, space in element.nsmap.items():
                    prefixes.learn(prefix or "", space)
            self._spaces = prefixes.by_prefix()
        return self._spaces

    def each_record(self, path: str | None) -> list[XmlDocument]:
        """Return the records at a path, each by itself."""
        return [XmlDocument(each, self._namespaces()) for each in self.records_at(path)]

    def records_at(self, path: str | None) -> list[XmlElement]:
        """Return the records at a path; without one what stands in the root."""
        if path is None:
            return list(self.root.iterchildren(tag=etree.Element))
        expression = Expression(path, self._namespaces())
        found = expression.results(self.root.getroottree(), lambda _: "")
        return [each.node for each in found if each.node is not None]


def document_of(data: bytes) -> JsonDocument | XmlDocument | None:
    """Return an answer as a document; None for what is not one."""
    if data.lstrip()[:1] == b"<":
        try:
            return XmlDocument(etree.fromstring(data, safe_parser()))
        except etree.XMLSyntaxError:
            return None
    reader = RecordReader(data, Separator.NOTHING, False, KernelOptions())
    records = list(islice(reader, 2))
    return JsonDocument(records[0].value) if len(records) == 1 and not reader.faults else None


def part_at(document: Document, path: str | None) -> Document:
    """Return what of an answer is taken: all of it, one value, or a list of what the path leads to."""
    if path is None:
        return document
    if isinstance(document, XmlDocument):
        nodes = document.records_at(path)
        if len(nodes) == 1:
            return XmlDocument(nodes[0])
        holder = etree.Element("found")
        holder.extend(nodes)
        return XmlDocument(holder)
    found = document.all_at(path)
    is_one = Query(_path(path).segments, True).is_singular()
    return JsonDocument(next(iter(found), None) if is_one else found)


def _texts_at(context: XmlElement, path: str, namespaces: dict[str, str]) -> list[Parsed]:
    return [found.text for found in Expression(path, namespaces).results(context, lambda _: "")]


def _as_member(document: Document) -> Parsed:
    """Return a document as a value of JSON; XML as its text."""
    if isinstance(document, JsonDocument):
        return document.value
    assert isinstance(document, XmlDocument)
    return etree.tostring(document.root, encoding="unicode")


def _asked_about(value: Parsed) -> str:
    """Return an address or id as text.

    Raises:
        UsageError: When it is none.
    """
    if isinstance(value, (dict, list, bool)) or value is None:
        raise UsageError(f"each: expected an address or id, got {json_text(value)[:40]}")
    return str(value)


def first_of(document: Document | None, path: str | None) -> Parsed:
    """Return the first of what a path leads to; None where nothing is, or no path."""
    if path is None or document is None:
        return None
    return next(iter(document.all_at(path)), None)


def all_of(documents: Sequence[Document | None], path: str) -> list[Parsed]:
    """Return all that a path leads to in some documents."""
    return [value for document in documents if document is not None for value in document.all_at(path)]
