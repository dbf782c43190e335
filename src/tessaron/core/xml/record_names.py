"""The names of the elements that records are, read from their tags."""

from __future__ import annotations

from tessaron.core.fragment import Int64s
from tessaron.core.xml.chunks import XmlChunk
from tessaron.core.xml.tokens import TOKEN, declarations_in


def element_names(chunk: XmlChunk, offsets: Int64s) -> list[str]:
    """Return the names of the records that begin at `offsets`, with the prefixes that paths have."""
    around = dict(chunk.context.namespaces)
    known: dict[bytes, str] = {}
    names = []
    for offset in offsets.tolist():
        found = TOKEN.match(chunk.data, offset)
        assert found is not None
        tag, attributes = found["start"], found["attributes"]
        if b"xmlns" in attributes:
            names.append(_named(tag, around | dict(declarations_in(attributes)), chunk))
            continue
        if tag not in known:
            known[tag] = _named(tag, around, chunk)
        names.append(known[tag])
    return names


def _named(tag: bytes, namespaces: dict[str, str], chunk: XmlChunk) -> str:
    prefix, _, local = tag.decode("utf-8", "replace").rpartition(":")
    shown = chunk.prefixes.get(namespaces.get(prefix, ""))
    return f"{shown}:{local}" if shown else local
