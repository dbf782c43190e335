"""The names of the elements that records are, read from their tags."""

from __future__ import annotations

import numpy as np

from tessaron.core.base.text_lane import Int64s
from tessaron.core.cutting.xml_chunks import XmlChunk
from tessaron.core.markup.tokens import TOKEN, declarations_in

_ENDS = np.frombuffer(b" \t\r\n/>", np.uint8)


def element_names(chunk: XmlChunk, offsets: Int64s) -> list[str]:
    """Return the names of the records that begin at `offsets`, with the prefixes that paths have."""
    around = dict(chunk.context.namespaces)
    alike = _tag_of_all(chunk, offsets)
    if alike is not None:
        return [_named(alike, around, chunk)] * len(offsets)
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


def _tag_of_all(chunk: XmlChunk, offsets: Int64s) -> bytes | None:
    """Return the tag of all records, where they have one and none can mean another name by it; else None."""
    first = TOKEN.match(chunk.data, int(offsets[0])) if len(offsets) else None
    if first is None or b"xmlns" in chunk.data:
        return None
    tag = first["start"]
    data = np.frombuffer(chunk.data, np.uint8)
    # Every record has at least its name, the angle brackets and a slash.
    letters = data[offsets[:, None] + np.arange(1, len(tag) + 2)]
    is_tag = (letters[:, :-1] == np.frombuffer(tag, np.uint8)).all(axis=1)
    return tag if bool((is_tag & np.isin(letters[:, -1], _ENDS)).all()) else None


def _named(tag: bytes, namespaces: dict[str, str], chunk: XmlChunk) -> str:
    prefix, _, local = tag.decode("utf-8", "replace").rpartition(":")
    shown = chunk.prefixes.get(namespaces.get(prefix, ""))
    return f"{shown}:{local}" if shown else local
