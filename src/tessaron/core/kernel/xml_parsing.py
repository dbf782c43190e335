"""Parsing chunks of XML records safely with lxml: all at once, or one by one where something is wrong."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any
from xml.sax.saxutils import quoteattr

from lxml import etree

from tessaron.core.base.errors import Code, UsageError
from tessaron.core.base.parsed_values import Parsed, XmlElement
from tessaron.core.cutting.xml_chunks import XmlChunk

_AROUND = "records"
_MOST_TEXT_BYTES = 10_000_000
_ENTITY = re.compile(r"Entity '([^']*)' not defined")
_PLACE = re.compile(r",? line \d+, col(?:umn)? \d+.*", re.DOTALL)


@dataclass(frozen=True, slots=True)
class RecordError:
    """Why a record could not be read: its place is in bytes from its start, and the column in its line."""

    code: Code
    byte_offset: int
    column: int
    reason: str


def safe_parser(declarations: bytes = b"", target: Any = None) -> Any:
    """Return a parser that fetches nothing, expands entities within bounds, and bounds depth and sizes.

    Default attributes are set where `declarations` has some; there is nothing to be fetched for them.
    A `target` takes what is read in place of a tree.
    """
    return etree.XMLParser(
        resolve_entities="internal", no_network=True, load_dtd=False, huge_tree=False,
        attribute_defaults=b"<!ATTLIST" in declarations, target=target,
    )  # fmt: skip


class _NoTree:
    """A target that wants nothing: to read without making a tree takes a fifth of the time."""

    def close(self) -> None:
        """Give nothing back."""


class XmlParser:
    """Parses the records of a chunk.

    Args:
        chunk: The records.
        predicates: XPath predicates that wanted records fulfil, brackets included.
        location: An XPath expression; the records of the chunk are documents then, and what it leads to in
            them are the records.
        alone: Whether each record is wanted as a document of its own.
    """

    def __init__(
        self, chunk: XmlChunk, predicates: str = "", location: str = "", alone: bool = False
    ) -> None:
        self._chunk = chunk
        self._alone = alone
        self._is_parsed = False
        self._whole: list[Any] | None = None
        self._find = _expression(location, chunk) if location else None
        self._head, self._tail = around_records(chunk)
        self._holds = _condition(predicates, chunk) if predicates else None

    def records(self) -> Iterator[tuple[int, XmlElement]]:
        """Yield where each record begins in the chunk, and the record: an element or an error.

        A record that does not fulfil the predicates comes as None.
        """
        chunk = self._chunk
        starts = chunk.starts.tolist()
        if self._find is not None:
            for start, stop in zip(starts, [*starts[1:], len(chunk.data)], strict=True):
                yield from self._found_in(start, chunk.data[start:stop])
            return
        if self._alone:
            for start, stop in zip(starts, [*starts[1:], len(chunk.data)], strict=True):
                yield start, self._document(chunk.data[start:stop])
            return
        found = self.whole()
        if found is not None:
            for start, record in zip(starts, found, strict=True):
                yield start, self._wanted(record)
            return
        for start, stop in zip(starts, [*starts[1:], len(chunk.data)], strict=True):
            yield start, self._one(chunk.data[start:stop])

    def whole(self) -> list[XmlElement] | None:
        """Return the elements of all records, where nothing is wrong with any; else None."""
        if not self._is_parsed:
            self._is_parsed = True
            try:
                root = self._parse(self._chunk.data)
            except etree.XMLSyntaxError:
                return None
            found = [child for child in root if isinstance(child.tag, str)]
            self._whole = found if len(found) == len(self._chunk.starts) else None
        return self._whole

    def finds_nothing_wrong(self) -> bool:
        """Say that all records are well-formed, without a tree; False too where it takes one to tell.

        Trees have bounds of their own on texts, and check `xml:id`. They have one on depth too, which is left
        to whoever walks through the records.
        """
        data = self._chunk.data
        if self._chunk.context.declarations or len(data) > _MOST_TEXT_BYTES or b"xml:id" in data:
            return self.whole() is not None
        parser = safe_parser(target=_NoTree())
        try:
            etree.fromstring(b"".join((self._head, data, self._tail)), parser)
        except etree.XMLSyntaxError:
            return False
        # Wrong namespaces are only noted.
        return not len(parser.error_log)

    def _one(self, data: bytes) -> XmlElement:
        try:
            root = self._parse(data)
        except etree.XMLSyntaxError as error:
            return self._error(error, data)
        records = [child for child in root if isinstance(child.tag, str)]
        if len(records) != 1:
            return RecordError(Code.SYNTAX, 0, 1, f"expected one element, found {len(records)}")
        return self._wanted(records[0])

    def _found_in(self, start: int, data: bytes) -> Iterator[tuple[int, XmlElement]]:
        """Yield what the expression leads to in one document, each at the beginning of its line."""
        assert self._find is not None
        document = self._document(data)
        if isinstance(document, RecordError):
            yield start, document
            return
        found = self._find(document.getroottree())
        if not isinstance(found, list):
            kind = {bool: "a boolean", float: "a number"}.get(type(found), "a text")
            raise UsageError(f"expected a path to elements as records, got {kind}")
        lines = [-1, *(match.start() for match in re.finditer(b"\n", data))]
        for element in found:
            if not isinstance(getattr(element, "tag", None), str):
                raise UsageError("expected a path to elements as records, got one to attributes or texts")
            yield start + lines[min(element.sourceline, len(lines)) - 1] + 1, element

    def _document(self, data: bytes) -> XmlElement:
        """Return the root of a document, or why it cannot be read."""
        doctype = _doctype(self._chunk)
        try:
            return etree.fromstring(doctype + data, safe_parser(self._chunk.context.declarations))
        except etree.XMLSyntaxError as error:
            return self._error(error, data, len(doctype))

    def _wanted(self, record: Parsed) -> XmlElement:
        return record if self._holds is None or self._holds(record) else None

    def _parse(self, data: bytes) -> XmlElement:
        text = b"".join((self._head, data, self._tail))
        return etree.fromstring(text, safe_parser(self._chunk.context.declarations))

    def _error(self, error: etree.ParseError, data: bytes, head_bytes: int | None = None) -> RecordError:
        line, column = error.position
        # What stands in front of the record is one line.
        before = (len(self._head) if head_bytes is None else head_bytes) if line == 1 else 0
        lines = data.split(b"\n")
        line = min(max(line, 1), len(lines))
        column = max(1, column - before)
        offset = sum(len(each) + 1 for each in lines[: line - 1]) + min(column - 1, len(lines[line - 1]))
        code, reason = reason_of(str(error.msg))
        return RecordError(code, offset, column, reason)


def reason_of(message: str) -> tuple[Code, str]:
    """Return a code and what to say for a message of the parser."""
    text = " ".join(_PLACE.sub("", message).split())
    entity = _ENTITY.search(text)
    if entity:
        name = entity.group(1)
        return Code.ENTITY, (
            f"the entity &{name}; is not declared in the document itself; external ones are never fetched"
        )
    if "amplification" in text:
        return Code.ENTITY, "its entities expand to far more than was written; such a document is not read"
    if "Excessive depth" in text:
        return Code.DEPTH, "elements are nested deeper than 255 levels"
    if "Resource limit" in text or "too long" in text or "too big" in text:
        return Code.LIMIT, "an attribute, text, comment or instruction has more than 10,000,000 bytes"
    if "encoding" in text:
        return Code.ENCODING, f"bytes that are not in the encoding of the document ({text})"
    if "Namespace prefix" in text:
        return Code.NAMESPACE, f"expected declared prefixes: {text}"
    return Code.SYNTAX, f"expected XML: {text}"


def around_records(chunk: XmlChunk) -> tuple[bytes, bytes]:
    """Return what makes a document of records: a type with what is declared, an element with namespaces."""
    names = "".join(
        f" xmlns{':' + prefix if prefix else ''}={quoteattr(namespace)}"
        for prefix, namespace in chunk.context.namespaces
        if prefix != "xml"
    )
    names = names.replace("\n", "&#10;")
    return _doctype(chunk) + f"<{_AROUND}{names}>".encode(), f"</{_AROUND}>".encode()


def _doctype(chunk: XmlChunk) -> bytes:
    declared = chunk.context.declarations.replace(b"\n", b" ")
    return b"<!DOCTYPE %s [%s]>" % (_AROUND.encode(), declared) if declared else b""


def _expression(text: str, chunk: XmlChunk) -> XmlElement:
    namespaces = {prefix: namespace for namespace, prefix in chunk.prefixes.items()}
    return etree.XPath(text, namespaces=namespaces, smart_strings=False)


def _condition(predicates: str, chunk: XmlChunk) -> Callable[[XmlElement], bool]:
    """Return what says of a record whether it fulfils the predicates."""
    find = _expression(f"self::*{predicates}", chunk)
    return lambda record: bool(find(record))
