"""Documents whose type declares markup, written out: tags alone do not tell what stands in them."""

from __future__ import annotations

import re

from lxml import etree

from tessaron.core.markup.declarations import usable_declarations

MOST_WRITTEN_OUT_BYTES = 64 * 1024 * 1024
"""A document that has to be held for this is no longer than so many bytes."""
_OPENING = rb"(?:<|&#0*60;|&#[xX]0*3[cC];)"
_HIDDEN_MARKUP = re.compile(
    rb"""<!ENTITY\s[^"']*(?:"[^"]*%b|'[^']*%b)|<!ATTLIST[^>]*\sxmlns[\s:]""" % (_OPENING, _OPENING)
)
_AROUND = b"document"


def hides_markup(head: bytes) -> bool:
    """Say whether the document type declares entities with elements in them, or namespaces of elements.

    Args:
        head: The first bytes of the document, as UTF-8.
    """
    start = head.find(b"<!DOCTYPE")
    found = usable_declarations(head, start) if start >= 0 else None
    return found is not None and _HIDDEN_MARKUP.search(found.declarations) is not None


def write_out(data: bytes) -> bytes | None:
    """Return a document with the elements of its entities, and its namespaces, where they stand.

    The lines are those of `data`, up to where an entity has brought others. Nothing is fetched: the document
    type is put together anew of what it declares itself.

    Args:
        data: The document as UTF-8.

    Returns:
        The document without its type; None if it is not well-formed (or there are several).
    """
    start = data.find(b"<!DOCTYPE")
    found = usable_declarations(data, start)
    if found is None or found.refused:
        return None
    lines = b"\n" * (data.count(b"\n", start, found.end) - found.declarations.count(b"\n"))
    head = re.sub(rb"<\?xml[^?]*\?>", b"", data[:start], count=1)
    doctype = b"<!DOCTYPE %b [%b%b]>" % (_AROUND, found.declarations, lines)
    parser = etree.XMLParser(
        encoding="utf-8", resolve_entities="internal", no_network=True, load_dtd=False, huge_tree=False,
        attribute_defaults=True,
    )  # fmt: skip
    try:
        root = etree.fromstring(head + doctype + data[found.end :], parser)
    except etree.XMLSyntaxError:
        return None
    before = [etree.tostring(each, encoding="utf-8") for each in root.itersiblings(preceding=True)]
    after = [etree.tostring(each, encoding="utf-8") for each in root.itersiblings()]
    text = b"\n".join(reversed(before))
    text += b"\n" * max(0, (root.sourceline or 1) - 1 - text.count(b"\n"))
    return b"".join((text, etree.tostring(root, encoding="utf-8", with_tail=False), *after))
