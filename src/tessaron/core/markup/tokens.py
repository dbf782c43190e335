"""Tags and other marks of XML 1.0 in bytes of UTF-8, found without parsing what stands between them."""

from __future__ import annotations

import re
from collections.abc import Iterator
from html.entities import html5
from typing import Final

_NAME: Final = rb"[^\s/>=<!?'\"&]+"
TOKEN = re.compile(
    rb"""<(?:(?P<comment>!--)|(?P<cdata>!\[CDATA\[)|(?P<instruction>\?)|(?P<doctype>!DOCTYPE)
        |/(?P<end>%b)\s*>
        |(?P<start>%b)(?P<attributes>(?:[^<>"'/]|"[^"<]*"|'[^'<]*'|/(?!>))*)(?P<empty>/?)>)"""
    % (_NAME, _NAME),
    re.VERBOSE,
)
"""A whole tag, or how a comment, a CDATA section, an instruction or the document type begins."""
DEPTH_LIMIT: Final = 255
"""So deep, at most, elements stand in each other in what is read."""
RECORDS_MARK: Final = "tessaron-records"
"""The instruction that stands, with their number, where records stood among others."""
CLOSINGS = {"comment": b"-->", "cdata": b"]]>", "instruction": b"?>"}
"""How the marks end that may hold anything."""
_ATTRIBUTE = re.compile(rb"""([^\s=/<>"']+)\s*=\s*(?:"([^"<]*)"|'([^'<]*)')""")
_REFERENCE = re.compile(r"&(?:#(?P<number>[0-9]+)|#x(?P<hex>[0-9A-Fa-f]+)|(?P<name>[A-Za-z]+));")
_NAMED = {name: html5[name + ";"] for name in ("lt", "gt", "amp", "quot")} | {"apos": "'"}
_DECLARATION = re.compile(rb"""xmlns(?::([^\s=/<>"']+))?\s*=\s*(?:"([^"<]*)"|'([^'<]*)')""")


def attributes_of(text: bytes) -> Iterator[tuple[str, str]]:
    """Yield the names and values of the attributes in a start tag, the references in values resolved."""
    for name, double, single in _ATTRIBUTE.findall(text):
        yield name.decode("utf-8", "replace"), resolved(double or single)


def declarations_in(data: bytes) -> Iterator[tuple[str, str]]:
    """Yield each prefix (empty for the default) and namespace that is declared anywhere in the bytes."""
    if b"xmlns" in data:
        for prefix, double, single in _DECLARATION.findall(data):
            yield prefix.decode("utf-8", "replace"), resolved(double or single)


def resolved(value: bytes) -> str:
    """Return a text or the value of an attribute with its references resolved."""
    text = value.decode("utf-8", "replace")
    return _REFERENCE.sub(_character, text) if "&" in text else text


def _character(found: re.Match[str]) -> str:
    if found["name"]:
        return _NAMED.get(found["name"], found.group())
    code = int(found["number"]) if found["number"] else int(found["hex"], 16)
    return chr(code) if 0 < code <= 0x10FFFF else found.group()
