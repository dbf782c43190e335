"""XML documents as values: what an element holds, under the names that XPath 1.0 gives its parts."""

from __future__ import annotations

import re
from typing import Any

from tessaron.core.base.parsed_values import XmlElement
from tessaron.core.base.paths import ELEMENT
from tessaron.core.cutting.selecting import Selection

TEXT_NAME = "text()"
"""The name of the text beside attributes or elements."""
_DECLARATION = re.compile(r"\A\s*<\?xml\s[^>]*\?>")
"""What a document says of its encoding does not hold for a text, which is decoded already."""
_NIL = "{http://www.w3.org/2001/XMLSchema-instance}nil"


class XmlTextError(ValueError):
    """A text that is no XML document, or one that wants more than is safe."""


def parse_xml(text: str, selection: Selection | None = None) -> XmlElement:
    """Return what the root element of a document holds.

    An element with nothing but text is that text; any other is a dict: attributes as `@name`, elements by
    their local name (with their prefix where two namespaces would clash), text beside them as `text()`.
    Elements of one name are a list where there are several, and where `selection` wants each of them. An
    element with `xsi:nil` is None. Comments and processing instructions are left out; nothing is fetched or
    expanded.

    Args:
        text: The document.
        selection: What is wanted of it; None for everything.

    Raises:
        XmlTextError: With what is wrong, and where in the text.
    """
    return _value_of(parse_root(text), selection, 0)


def parse_root(text: str) -> XmlElement:
    """Return the root element of a document; see `parse_xml`."""
    from lxml import etree

    parser = etree.XMLParser(resolve_entities=False, no_network=True, load_dtd=False, huge_tree=False)
    try:
        root = etree.fromstring(_DECLARATION.sub("", text).encode(), parser)
    except (etree.XMLSyntaxError, ValueError) as error:
        reason = " ".join(str(getattr(error, "msg", None) or error).split())
        raise XmlTextError(f"expected XML: {reason}") from error
    types = root.getroottree().docinfo.internalDTD
    if (types is not None and any(types.iterentities())) or any(root.iter(etree.Entity)):
        raise XmlTextError("expected XML without entities of its own")
    return root


def _value_of(element: XmlElement, selection: Selection | None, place: int) -> XmlElement:
    if element.get(_NIL) in ("true", "1"):
        return None
    children = [child for child in element if isinstance(child.tag, str)]
    names = {name: _local(name) for name in element.attrib if name != _NIL}
    if not children and not names:
        return _text_of(element)
    made: dict[str, Any] = {f"@{local}": element.get(name) for name, local in names.items()}
    for name, group in _grouped(children).items():
        below = -1 if selection is None or place < 0 else selection.step(place, name)
        each = -1 if selection is None or below < 0 else selection.step(below, ELEMENT)
        values = [_value_of(child, selection, each if each >= 0 else below) for child in group]
        made[name] = values if len(values) > 1 or each >= 0 else values[0]
    text = _text_of(element)
    if text.strip():
        made[TEXT_NAME] = text
    return made


def _grouped(children: list[XmlElement]) -> dict[str, list[XmlElement]]:
    """Return the elements by their name; local names of two namespaces get their prefixes."""
    tags: dict[str, set[str]] = {}
    for child in children:
        tags.setdefault(_local(child.tag), set()).add(child.tag)
    groups: dict[str, list[Any]] = {}
    for child in children:
        local = _local(child.tag)
        clashes = len(tags[local]) > 1 and child.prefix
        groups.setdefault(f"{child.prefix}:{local}" if clashes else local, []).append(child)
    return groups


def _local(tag: str) -> str:
    return tag.rpartition("}")[2]


def _text_of(element: XmlElement) -> str:
    """Return the text of an element itself, without that of the elements in it."""
    return (element.text or "") + "".join(child.tail or "" for child in element)
