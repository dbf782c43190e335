"""Checking records against an XML Schema, one by one, wherever in their document they stand."""

from __future__ import annotations

import re
from copy import deepcopy
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

from lxml import etree

from tessaron.core.errors import UsageError
from tessaron.core.xml.record_path import Name
from tessaron.core.xml.schema import Schema

_NAMESPACE = re.compile(r"\{[^}]*\}")


@dataclass(frozen=True, slots=True)
class RecordSchema:
    """What is needed to check records, to be sent to other processes.

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
    checker = _checker(schema)
    if checker.validate(record):
        return None
    error = checker.error_log[0]
    return Invalid(error.line, _NAMESPACE.sub("", " ".join(error.message.split())))


class _Files(etree.Resolver):  # type: ignore[misc]
    def __init__(self, documents: tuple[tuple[str, bytes], ...]):
        super().__init__()
        self._documents = dict(documents)

    def resolve(self, url: str, public_id: str, context: Any) -> Any:
        """Give the files that were read beforehand, and nothing else."""
        path = url.removeprefix("file://")
        data = self._documents.get(path)
        return self.resolve_string(data if data is not None else b"<none/>", context, base_url=url)


@lru_cache(maxsize=4)
def _checker(schema: RecordSchema) -> Any:
    first, _ = schema.documents[0]
    parser = etree.XMLParser(resolve_entities=False, no_network=True)
    parser.resolvers.add(_Files(schema.documents))
    roots = [etree.fromstring(data, parser, base_url=path) for path, data in schema.documents]
    declared = Schema(roots).record(list(schema.way))
    if declared is None or declared.node is None:
        way = "/" + "/".join(name.local for name in schema.way)
        raise UsageError(f"the schema {first} declares no element {way}; --records says where records stand")
    owner = declared.node.getroottree().getroot()
    if declared.node.getparent() is not owner:
        # Only global elements are checked by themselves: a copy of the declaration makes it one.
        made = deepcopy(declared.node)
        for name in ("minOccurs", "maxOccurs", "form"):
            made.attrib.pop(name, None)
        taken = any(each.tag == declared.node.tag and each.get("name") == made.get("name") for each in owner)
        space = owner.get("targetNamespace", "")
        if taken or declared.name.namespace != space:
            raise UsageError(
                f"records cannot be checked by themselves against {first}: {declared.name.local} stands for "
                "something else outermost; leave out --xsd, or check the documents beforehand"
            )
        owner.append(made)
    try:
        return etree.XMLSchema(owner)
    except etree.XMLSchemaParseError as error:
        raise UsageError(f"{first}: is no schema that can be used: {error}") from error
