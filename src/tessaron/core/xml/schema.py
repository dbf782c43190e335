"""What an XML Schema (XSD 1.0) declares: the elements and attributes below an element, types, repetition."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any, Final

from lxml import etree

from tessaron.core.errors import UsageError
from tessaron.core.typing.types import BOOLEAN, DATE, DECIMAL_DIGITS, DOUBLE, INTEGER, TEXT, ColumnType
from tessaron.core.xml.record_path import Name

XSD: Final = "http://www.w3.org/2001/XMLSchema"
_X = f"{{{XSD}}}"
_TYPES: Mapping[str, ColumnType | None] = {
    "boolean": BOOLEAN, "double": DOUBLE, "float": DOUBLE, "date": DATE,
    "decimal": ColumnType("decimal", DECIMAL_DIGITS, 9), "unsignedLong": ColumnType("decimal", 20, 0),
    "dateTime": ColumnType("timestamp_tz", second_digits=6), "time": ColumnType("time", second_digits=6),
    **dict.fromkeys(
        ("integer", "long", "int", "short", "byte", "nonNegativeInteger", "positiveInteger",
         "nonPositiveInteger", "negativeInteger", "unsignedInt", "unsignedShort", "unsignedByte"), INTEGER),
    "anyType": None, "anySimpleType": None,
}  # fmt: skip
"""The column types of the built-in types (XSD part 2); all others are text. None where anything may stand."""
_GROUPS = frozenset((f"{_X}sequence", f"{_X}choice", f"{_X}all"))


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
        node: Its declaration.
    """

    name: Name
    type: ColumnType | None = None
    has_text: bool = False
    repeats: bool = False
    attributes: dict[Name, ColumnType | None] = field(default_factory=dict)
    children: dict[Name, Declared] = field(default_factory=dict)
    again: bool = False
    node: Any = None


class Schema:
    """A schema with all that it includes and imports.

    Args:
        documents: The parsed schema documents, the one that was asked for first.

    Raises:
        UsageError: When one is no schema.
    """

    def __init__(self, documents: list[Any]):
        self._documents = documents
        self._globals: dict[tuple[str, str, str], Any] = {}
        for root in documents:
            if root.tag != f"{_X}schema":
                raise UsageError(f"expected an XML Schema, found an element {etree.QName(root).localname}")
            space = root.get("targetNamespace") or documents[0].get("targetNamespace", "")
            for node in root:
                if isinstance(node.tag, str) and node.get("name"):
                    kind = etree.QName(node).localname
                    self._globals[kind, space, node.get("name")] = node

    def record(self, way: list[Name]) -> Declared | None:
        """Return the element that names lead to, from a global one down; None if that is not declared."""
        top = self._globals.get(("element", way[0].namespace, way[0].local))
        found = None if top is None else self._element(top, (), is_global=True)
        for name in way[1:]:
            found = None if found is None else found.children.get(name)
        return found

    def _element(self, node: Any, above: tuple[Any, ...], is_global: bool = False) -> Declared:
        reference = node.get("ref")
        repeats = _repeats(node)
        if reference is not None:
            space, local = self._resolved(node, reference)
            target = self._globals.get(("element", space, local))
            if target is None:
                return Declared(Name(space, local), repeats=repeats)
            made = self._element(target, above, is_global=True)
            made.repeats = repeats
            return made
        qualified = is_global or node.get("form", self._default(node, "element")) == "qualified"
        name = Name(self._space(node) if qualified else "", node.get("name", ""))
        made = Declared(name, repeats=repeats and not is_global, node=node)
        self._fill(made, node, above)
        return made

    def _fill(self, made: Declared, node: Any, above: tuple[Any, ...]) -> None:
        inline = next((each for each in node if each.tag in (f"{_X}complexType", f"{_X}simpleType")), None)
        if inline is None and node.get("type") is not None:
            space, local = self._resolved(node, node.get("type"))
            if space == XSD:
                made.type, made.has_text = _TYPES.get(local, TEXT), True
                return
            inline = self._globals.get(("complexType", space, local))
            if inline is None:
                inline = self._globals.get(("simpleType", space, local))
        if inline is None:
            return
        if inline.tag == f"{_X}simpleType":
            made.type, made.has_text = self._simple(inline), True
        elif inline in above:
            made.again = True
        else:
            made.has_text = inline.get("mixed") == "true"
            self._complex(made, inline, (*above, inline))

    def _complex(self, made: Declared, node: Any, above: tuple[Any, ...]) -> None:
        for each in node:
            if each.tag in _GROUPS or each.tag == f"{_X}group":
                for child in self._particles(each, above, False):
                    known = made.children.get(child.name)
                    if known is None:
                        made.children[child.name] = child
                    else:
                        known.repeats = True
            elif each.tag in (f"{_X}attribute", f"{_X}attributeGroup"):
                self._attribute(made, each)
            elif each.tag in (f"{_X}simpleContent", f"{_X}complexContent"):
                made.has_text |= each.get("mixed") == "true"
                for derived in each:
                    if derived.tag in (f"{_X}extension", f"{_X}restriction"):
                        self._derived(made, each, derived, above)

    def _derived(self, made: Declared, content: Any, node: Any, above: tuple[Any, ...]) -> None:
        space, local = self._resolved(node, node.get("base", ""))
        base = self._globals.get(("complexType", space, local))
        simple = self._globals.get(("simpleType", space, local))
        if base is not None and base not in above:
            # What a restriction leaves of its base is said in it again; its attributes need not be.
            own = Declared(made.name)
            self._complex(own, base, (*above, base))
            made.attributes |= own.attributes
            if node.tag == f"{_X}extension":
                made.children |= own.children
            made.type, made.has_text = own.type, made.has_text or own.has_text or base.get("mixed") == "true"
        if content.tag == f"{_X}simpleContent":
            made.has_text = True
            if space == XSD:
                made.type = _TYPES.get(local, TEXT)
            elif simple is not None:
                made.type = self._simple(simple)
        self._complex(made, node, above)

    def _particles(self, node: Any, above: tuple[Any, ...], repeats: bool) -> Iterator[Declared]:
        repeats = repeats or _repeats(node)
        if node.tag == f"{_X}group" and node.get("ref") is not None:
            target = self._globals.get(("group", *self._resolved(node, node.get("ref"))))
            if target is None or target in above:
                return
            for each in target:
                if each.tag in _GROUPS:
                    yield from self._particles(each, (*above, target), repeats)
            return
        for each in node:
            if each.tag == f"{_X}element":
                made = self._element(each, above)
                made.repeats |= repeats
                yield made
            elif each.tag in _GROUPS or each.tag == f"{_X}group":
                yield from self._particles(each, above, repeats)

    def _attribute(self, made: Declared, node: Any) -> None:
        if node.get("use") == "prohibited":
            return
        if node.tag == f"{_X}attributeGroup":
            target = self._globals.get(("attributeGroup", *self._resolved(node, node.get("ref", ""))))
            for each in target if target is not None else ():
                if each.tag in (f"{_X}attribute", f"{_X}attributeGroup"):
                    self._attribute(made, each)
            return
        if node.get("ref") is not None:
            space, local = self._resolved(node, node.get("ref"))
            target = self._globals.get(("attribute", space, local))
            made.attributes[Name(space, local)] = TEXT if target is None else self._attribute_type(target)
            return
        qualified = node.get("form", self._default(node, "attribute")) == "qualified"
        name = Name(self._space(node) if qualified else "", node.get("name", ""))
        made.attributes[name] = self._attribute_type(node)

    def _attribute_type(self, node: Any) -> ColumnType | None:
        inline = node.find(f"{_X}simpleType")
        if inline is not None:
            return self._simple(inline)
        return TEXT if node.get("type") is None else self._named(node, node.get("type"))

    def _named(self, node: Any, name: str) -> ColumnType | None:
        space, local = self._resolved(node, name)
        if space == XSD:
            return _TYPES.get(local, TEXT)
        target = self._globals.get(("simpleType", space, local))
        return TEXT if target is None else self._simple(target)

    def _simple(self, node: Any, depth: int = 0) -> ColumnType | None:
        """Return the type of a simple type: that of its base, with the digits that facets leave."""
        restriction = node.find(f"{_X}restriction")
        if restriction is None or depth > 50:
            return TEXT
        inner = restriction.find(f"{_X}simpleType")
        if inner is not None:
            base = self._simple(inner, depth + 1)
        else:
            space, local = self._resolved(restriction, restriction.get("base", ""))
            target = self._globals.get(("simpleType", space, local))
            base = _TYPES.get(local, TEXT) if space == XSD else TEXT
            if target is not None:
                base = self._simple(target, depth + 1)
        return _with_facets(base, restriction)

    def _space(self, node: Any) -> str:
        root = node.getroottree().getroot()
        return str(root.get("targetNamespace") or self._documents[0].get("targetNamespace", ""))

    def _default(self, node: Any, kind: str) -> str:
        return str(node.getroottree().getroot().get(f"{kind}FormDefault", "unqualified"))

    def _resolved(self, node: Any, name: str) -> tuple[str, str]:
        prefix, _, local = name.strip().rpartition(":")
        space = node.nsmap.get(prefix or None)
        if space is None:
            space = self._space(node) if not prefix else ""
        return str(space), local


def _repeats(node: Any) -> bool:
    most = node.get("maxOccurs", "1")
    return most == "unbounded" or (most.isdigit() and int(most) > 1)


def _with_facets(base: ColumnType | None, restriction: Any) -> ColumnType | None:
    if base is None or base.name != "decimal":
        return base
    facets = {etree.QName(each).localname: each.get("value") for each in restriction if each.get("value")}
    scale = int(facets.get("fractionDigits", base.scale))
    if "totalDigits" in facets and "fractionDigits" in facets:
        return ColumnType("decimal", min(max(int(facets["totalDigits"]), scale, 1), DECIMAL_DIGITS), scale)
    return ColumnType("decimal", base.precision, min(scale, base.precision))
