"""Documents of XML in the cells of a table, written as JSON: what their roots hold, as `parse_xml` says it.

All is text in XML. Where the first rows have numbers only, or truth values only, at a place, these are
written as such; and what stands several times anywhere is a list everywhere.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass, field
from json.encoder import encode_basestring as quoted

from tessaron.core.base.parsed_values import Parsed, XmlElement
from tessaron.core.kernel.xml_values import TEXT_NAME, XmlTextError, parse_root, parse_xml

Names = tuple[str, ...]
_NUMBER = re.compile(r"(-?[1-9][0-9]*|0|-?(0|[1-9][0-9]*)\.[0-9]+)\Z")
"""Texts that a number is written as: then it is the number."""
_TRUTH = ("true", "false")
_XSI = "{http://www.w3.org/2001/XMLSchema-instance}"


@dataclass(frozen=True, slots=True)
class XmlCells:
    """What the documents of a column have in common.

    Attributes:
        lists: The names that lead to what stands several times somewhere.
        plain: The names that lead to numbers or truth values only.
    """

    lists: frozenset[Names] = frozenset()
    plain: frozenset[Names] = frozenset()

    @classmethod
    def of(cls, documents: Iterable[str]) -> XmlCells:
        """Return what some documents have in common; those that are none have no say."""
        seen = _Seen()
        for document in documents:
            try:
                seen.note(parse_xml(document), ())
            except XmlTextError:
                continue
        return cls(frozenset(seen.lists), _plain(seen))

    def as_json(self, document: str) -> str:
        """Return a document as JSON.

        Raises:
            XmlTextError: When it is none.
        """
        return self._written(parse_root(document), ())

    def _written(self, element: XmlElement, names: Names) -> str:
        attributes = element.attrib
        if attributes and element.get(f"{_XSI}nil") in ("true", "1"):
            return "null"
        children = [child for child in element if isinstance(child.tag, str)]
        if not children and not attributes:
            return self._scalar(_text_of(element), names)
        members: dict[str, list[str]] = {}
        for name, value in attributes.items():
            if name != f"{_XSI}nil":
                step = f"@{name.rpartition('}')[2]}"
                members[step] = [self._scalar(value, (*names, step))]
        clashing = _clashing(children)
        for child in children:
            step = child.tag.rpartition("}")[2]
            if step in clashing and child.prefix:
                step = f"{child.prefix}:{step}"
            members.setdefault(step, []).append(self._written(child, (*names, step)))
        text = _text_of(element)
        if not members:
            return self._scalar(text, names)
        if text.strip():
            members[TEXT_NAME] = [self._scalar(text, (*names, TEXT_NAME))]
        parts = []
        for step, values in members.items():
            is_list = len(values) > 1 or (*names, step) in self.lists
            parts.append(f"{quoted(step)}:[{','.join(values)}]" if is_list else f"{quoted(step)}:{values[0]}")
        return "{" + ",".join(parts) + "}"

    def _scalar(self, text: str, names: Names) -> str:
        is_plain = names in self.plain and (text in _TRUTH or _NUMBER.match(text) is not None)
        return text if is_plain else quoted(text)


@dataclass(slots=True)
class _Seen:
    """What was met in some documents."""

    lists: set[Names] = field(default_factory=set)
    numbers: set[Names] = field(default_factory=set)
    truths: set[Names] = field(default_factory=set)
    texts: set[Names] = field(default_factory=set)

    def note(self, value: Parsed, names: Names) -> None:
        """Take in a value and what it holds."""
        if isinstance(value, dict):
            for name, each in value.items():
                self.note(each, (*names, name))
        elif isinstance(value, list):
            self.lists.add(names)
            for each in value:
                self.note(each, names)
        elif isinstance(value, str):
            sort = self.truths if value in _TRUTH else self.numbers if _NUMBER.match(value) else self.texts
            sort.add(names)


def _plain(seen: _Seen) -> frozenset[Names]:
    """Return where all that was met is a number, or all a truth value."""
    return frozenset((seen.numbers ^ seen.truths) - seen.texts)


def _text_of(element: XmlElement) -> str:
    """Return the text of an element itself, without that of the elements in it."""
    text = element.text or ""
    return text + "".join(child.tail or "" for child in element) if len(element) else text


def _clashing(children: list[XmlElement]) -> set[str]:
    """Return the local names that elements of two namespaces have."""
    tags = {child.tag for child in children}
    if not any("}" in tag for tag in tags):
        return set()
    counts: dict[str, int] = {}
    for tag in tags:
        local = tag.rpartition("}")[2]
        counts[local] = counts.get(local, 0) + 1
    return {local for local, count in counts.items() if count > 1}
