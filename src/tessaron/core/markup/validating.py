"""Checking records against an XML Schema, one by one, wherever in their document they stand.

libxml2 checks first, as it is much faster; what it finds wrong, xmlschema decides.
"""

from __future__ import annotations

import re
from copy import deepcopy
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

from lxml import etree

from tessaron.core.base.errors import UsageError
from tessaron.core.base.parsed_values import XmlElement
from tessaron.core.markup.namespaces import XML_NAMESPACE
from tessaron.core.markup.record_path import Name
from tessaron.core.markup.schema import XSD, Schema

_NAMESPACE = re.compile(r"\{[^}]*\}")
_CLASS = re.compile(r" for <class '[^']*'>")
_RECORD = "record-by-itself"
_XML_ATTRIBUTES = (
    f'<s:schema xmlns:s="{XSD}" targetNamespace="{XML_NAMESPACE}"><s:attribute name="lang" type="s:string"/>'
    '<s:attribute name="space" type="s:NCName"/><s:attribute name="base" type="s:anyURI"/>'
    '<s:attribute name="id" type="s:ID"/></s:schema>'
).encode()
"""The attributes of XML itself, which schemas import from where nothing is fetched."""


@dataclass(frozen=True, slots=True)
class RecordSchema:
    """What is needed to check records.

    Attributes:
        documents: The schema files by their path, the first one that was asked for.
        way: The names from the root of the documents to the records.
    """

    documents: tuple[tuple[str, bytes], ...]
    way: tuple[Name, ...]


@dataclass(frozen=True, slots=True)
class Invalid:
    """What is wrong with a record: the line of what was parsed, and the reason."""

    line: int
    reason: str


def find_invalid(schema: RecordSchema, record: Any) -> Invalid | None:
    """Return the first thing that is wrong with a record; None if it is as the schema says.

    Raises:
        UsageError: When the schema itself is wrong, or does not declare such records.
    """
    return _checker(schema).find_invalid(record)


class _Checker:
    def __init__(self, schema: RecordSchema):
        path = schema.documents[0][0]
        self._element = Schema(schema.documents).element(schema.way)
        if self._element is None:
            way = "/" + "/".join(name.local for name in schema.way)
            raise UsageError(
                f"the schema {path} declares no element {way}; --records says where records stand"
            )
        self._tag, self._quick = _quick_check(schema, self._element)

    def find_invalid(self, record: Any) -> Invalid | None:
        """Return the first thing that is wrong with a record."""
        message = self._quickly(record)
        if message == "":
            return None
        error = next(self._element.iter_errors(record), None)
        if error is None:
            return None
        line = getattr(error.elem, "sourceline", None) or record.sourceline or 1
        reason = message or _CLASS.sub("", " ".join(str(error.reason or error).split()))
        return Invalid(line, _NAMESPACE.sub("", reason))

    def _quickly(self, record: Any) -> str | None:
        """Return what libxml2 finds wrong, empty for nothing; None where it cannot read the schema."""
        if self._quick is None:
            return None
        if self._tag != record.tag:
            record = deepcopy(record)
            record.tag = self._tag
        if self._quick.validate(record):
            return ""
        return " ".join(self._quick.error_log[0].message.split())


def _quick_check(schema: RecordSchema, element: XmlElement) -> tuple[str, Any]:
    """Return the name under which records are checked by libxml2, and its check; None if it cannot."""
    parser = etree.XMLParser(resolve_entities=False, no_network=True)
    parser.resolvers.add(_Files(schema.documents))
    documents = dict(schema.documents)
    path = element.schema.url.partition("://")[2] if element.schema.url else schema.documents[0][0]
    first = schema.documents[0][0]
    # Only the document that was asked for has all the others in it.
    if element.parent is not None and path not in (first, ""):
        return "", None
    owner = etree.fromstring(documents[first], parser, base_url=first)
    tag = str(element.name)
    if element.parent is not None:
        node = _same_node(owner, element)
        if node is None:
            return "", None
        # Only global elements are checked by themselves: a copy of the declaration makes it one.
        made = deepcopy(node)
        for name in ("minOccurs", "maxOccurs", "form"):
            made.attrib.pop(name, None)
        made.set("name", _RECORD)
        owner.append(made)
        space = owner.get("targetNamespace", "")
        tag = f"{{{space}}}{_RECORD}" if space else _RECORD
    try:
        return tag, etree.XMLSchema(owner)
    except etree.XMLSchemaParseError:
        return "", None


def _same_node(owner: Any, element: XmlElement) -> Any:
    """Return the declaration in a schema document that xmlschema has read as an element; None if unsure."""
    wanted = element.elem
    same = [
        node
        for node in owner.iter(f"{{{XSD}}}element")
        if dict(node.attrib) == dict(wanted.attrib) and len(node) == len(wanted)
    ]
    return same[0] if len(same) == 1 else None


class _Files(etree.Resolver):  # type: ignore[misc]
    def __init__(self, documents: tuple[tuple[str, bytes], ...]):
        super().__init__()
        self._documents = dict(documents)
        self._by_name = {"xml.xsd": _XML_ATTRIBUTES}
        self._by_name |= {path.rpartition("/")[2]: data for path, data in documents}

    def resolve(self, url: str, public_id: str, context: Any) -> Any:
        """Give the files that were read beforehand, and nothing else."""
        path = url.removeprefix("file://")
        data = self._documents.get(path, self._by_name.get(path.rpartition("/")[2], b"<none/>"))
        return self.resolve_string(data, context, base_url=url)


@lru_cache(maxsize=4)
def _checker(schema: RecordSchema) -> _Checker:
    return _Checker(schema)
