"""What an XML Schema (XSD 1.0) declares of records: elements and attributes, types, repetition.

The library xmlschema reads schemas, and decides what is valid; here is what becomes of a declaration.
"""

from __future__ import annotations

import io
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from email.message import Message
from typing import Any, Final
from urllib.error import URLError
from urllib.request import BaseHandler, OpenerDirector, Request
from urllib.response import addinfourl

from tessaron.core.base.errors import UsageError
from tessaron.core.base.parsed_values import XmlElement
from tessaron.core.markup.record_path import Name
from tessaron.core.types.column_types import BOOLEAN, DATE, DECIMAL_DIGITS, DOUBLE, INTEGER, TEXT, ColumnType

XSD: Final = "http://www.w3.org/2001/XMLSchema"
_SCHEME = "schema"
_TYPES: Mapping[str, ColumnType | None] = {
    "boolean": BOOLEAN, "double": DOUBLE, "float": DOUBLE, "date": DATE, "integer": INTEGER,
    "decimal": ColumnType("decimal", DECIMAL_DIGITS, 9), "unsignedLong": ColumnType("decimal", 20, 0),
    "dateTime": ColumnType("timestamp", second_digits=0), "time": ColumnType("time", second_digits=0),
    "anyType": None, "anySimpleType": None, "anyAtomicType": None,
}  # fmt: skip
"""The column types of the built-in types (XSD part 2) and what is derived from them; all others are text.
None where anything may stand."""
_DIGITS = ("fractionDigits", "totalDigits")


@dataclass(slots=True)
class Declared:
    """An element as a schema declares it.

    Attributes:
        name: Its name.
        type: The type of its text; None where that is not said or there is none.
        has_text: Whether text may stand in it.
        repeats: Whether several may stand beside each other.
        attributes: The types of its attributes, by name.
        children: The elements in it, in their order.
        again: Whether it is of a type that it stands in already; what is in it is not told again then.
    """

    name: Name
    type: ColumnType | None = None
    has_text: bool = False
    repeats: bool = False
    attributes: dict[Name, ColumnType | None] = field(default_factory=dict)
    children: dict[Name, Declared] = field(default_factory=dict)
    again: bool = False


class Schema:
    """A schema with all that it includes and imports.

    Args:
        documents: The schema documents by their path, the one that was asked for first; others are found by
            the last part of the place that a reference names. Nothing else is read.

    Raises:
        UsageError: When they are no schema, or the library that reads schemas is not there.
    """

    def __init__(self, documents: tuple[tuple[str, bytes], ...]):
        try:
            import xmlschema
        except ImportError:
            raise UsageError("a schema needs the extra xsd: pip install 'tessaron[xsd]'") from None
        path, data = documents[0]
        opener = OpenerDirector()
        opener.add_handler(_Documents(dict(documents)))
        try:
            self._schema: Any = xmlschema.XMLSchema10(
                data, base_url=f"{_SCHEME}://{path}", opener=opener, allow="all", defuse="never"
            )
        except (xmlschema.XMLSchemaException, ValueError, TypeError) as error:
            reason = " ".join(str(getattr(error, "reason", None) or error).split())[:300]
            raise UsageError(f"{path}: is no schema that can be used: {reason}") from None

    def element(self, way: tuple[Name, ...]) -> Any:
        """Return the declaration that names lead to, from a global element down; None if there is none."""
        found = self._schema.maps.elements.get(way[0].clark)
        for name in way[1:]:
            inside = () if found is None else _elements_of(found.type)
            found = next((each for each, _ in inside if each.name == name.clark), None)
        return found

    def record(self, way: tuple[Name, ...]) -> Declared | None:
        """Return what is declared of the element that names lead to; None if that is not declared."""
        found = self.element(way)
        return None if found is None else _declared(found, False, ())

    def constraints_above(self, way: tuple[Name, ...]) -> list[str]:
        """Return the names of the keys and references that are declared of elements above the records."""
        above = (self.element(way[:count]) for count in range(1, len(way)))
        found = [each.identities for each in above if each is not None]
        return [str(one.name).rpartition(":")[2].rpartition("}")[2] for each in found for one in each]


class _Documents(BaseHandler):
    """Gives the documents that were read beforehand, wherever a schema says that they are."""

    def __init__(self, documents: Mapping[str, bytes]):
        self._documents = dict(documents)
        self._by_name = {path.rpartition("/")[2]: data for path, data in documents.items()}

    def schema_open(self, request: Request) -> addinfourl:
        """Return a document."""
        url = request.full_url
        beside = self._by_name.get(url.rpartition("/")[2])
        data = self._documents.get(url.removeprefix(f"{_SCHEME}://"), beside)
        if data is None:
            raise URLError("it is not among the files beside the schema, and nothing is fetched")
        return addinfourl(io.BytesIO(data), Message(), url, 200)

    http_open = https_open = file_open = schema_open


def _declared(element: XmlElement, repeats: bool, above: tuple[Any, ...]) -> Declared:
    made = Declared(_name_of(element.name), repeats=repeats)
    kind = element.type
    if kind.is_simple():
        made.type, made.has_text = column_type(kind), True
        return made
    if any(kind is each for each in above):
        made.again = True
        return made
    for name, attribute in kind.attributes.items():
        if name is not None and getattr(attribute, "use", None) != "prohibited":
            made.attributes[_name_of(name)] = column_type(attribute.type)
    if kind.has_simple_content():
        made.type, made.has_text = column_type(kind.content), True
        return made
    made.has_text = bool(kind.mixed)
    for child, is_many in _elements_of(kind):
        name = _name_of(child.name)
        known = made.children.get(name)
        if known is None:
            made.children[name] = _declared(child, is_many, (*above, kind))
        else:
            known.repeats = True
    return made


def _elements_of(kind: Any) -> Iterator[tuple[Any, bool]]:
    """Yield the elements that may stand in those of a type, in their order, and whether they may repeat."""
    if kind.is_simple() or kind.has_simple_content():
        return
    pending: list[tuple[Any, bool]] = [(kind.content, False)]
    while pending:
        particle, is_many = pending.pop()
        is_many = is_many or particle.max_occurs is None or particle.max_occurs > 1
        if hasattr(particle, "model"):
            pending += [(each, is_many) for each in reversed(list(particle))]
        elif particle.name is not None and hasattr(particle, "type"):
            if not particle.abstract:
                yield particle, is_many
            for each in sorted(particle.iter_substitutes(), key=lambda other: str(other.name)):
                if not each.abstract:
                    yield each, is_many


def column_type(kind: Any) -> ColumnType | None:
    """Return the type of a column for a simple type of the schema: that of the built-in one it comes from."""
    facets: dict[str, int] = {}
    while kind is not None:
        for each in _DIGITS:
            facet = kind.facets.get(f"{{{XSD}}}{each}") if getattr(kind, "facets", None) else None
            if facet is not None:
                facets.setdefault(each, int(facet.value))
        local = str(kind.name or "").removeprefix(f"{{{XSD}}}")
        if local in _TYPES and kind.name != local:
            return _with_digits(_TYPES[local], facets)
        kind = kind.base_type
    return TEXT


def _with_digits(base: ColumnType | None, facets: Mapping[str, int]) -> ColumnType | None:
    if base is None or base.name != "decimal":
        return base
    scale = facets.get("fractionDigits", base.scale)
    if "totalDigits" in facets and "fractionDigits" in facets:
        return ColumnType("decimal", min(max(facets["totalDigits"], scale, 1), DECIMAL_DIGITS), scale)
    return ColumnType("decimal", base.precision, min(scale, base.precision))


def _name_of(name: str) -> Name:
    space, _, local = name.rpartition("}")
    return Name(space.removeprefix("{"), local)
