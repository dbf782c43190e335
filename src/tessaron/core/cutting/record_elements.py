"""Recognising which element of XML documents is the record: the repeated one nearest the root that counts."""

from __future__ import annotations

import re
from dataclasses import dataclass, field

from tessaron.core.markup.declarations import usable_declarations
from tessaron.core.markup.namespaces import Prefixes
from tessaron.core.markup.record_path import ANY_ROOT, Name, NameTest, RecordPath
from tessaron.core.markup.tokens import CLOSINGS, DEPTH_LIMIT, TOKEN, attributes_of, declarations_in

_MOST_AROUND = 200
"""So many values, at most, stand around the records of a document that is there as a whole."""
_MANY = 10
"""Where there are many documents, one of them has at least so many records; else it is a record itself."""
_SHARE = 0.5
"""So great a share of all values, at least, stands in the records."""


_MOST_PATHS = 10_000
"""So many paths, about, are enough to help where one was mistyped."""


@dataclass(slots=True)
class Recognised:
    """What the first bytes of a source show.

    Attributes:
        path: Where the records stand.
        count: How many of them stand there.
        is_whole: Whether the document ends in these bytes.
    """

    path: RecordPath
    count: int
    is_whole: bool


@dataclass(slots=True)
class _Kind:
    """All elements of one name at one place: how many, the most in one parent, and values in and below."""

    name: Name
    count: int = 0
    most_beside: int = 0
    values: int = 0
    all_values: int = 0
    attributes: dict[str, None] = field(default_factory=dict)
    children: dict[Name, _Kind] = field(default_factory=dict)

    def add_up(self) -> None:
        """Let every kind here and below know the values in it and below it."""
        kinds = [self]
        for kind in kinds:
            kinds += kind.children.values()
        for kind in reversed(kinds):
            kind.all_values = kind.values + sum(child.all_values for child in kind.children.values())


LOOKED_AT_BYTES = 256 * 1024
"""So many bytes of a source are looked at to recognise its records."""


def recognise_records(head: bytes, is_all: bool, documents: int, size: int | None = None) -> Recognised:
    """Return where the records stand in the documents, judged from the first bytes of a source.

    Args:
        head: The first bytes, as UTF-8.
        is_all: Whether they are all.
        documents: How many documents of the sort there are: where there are more of them than elements
            that repeat in one, each is a record itself.
        size: Bytes of the first document, if known: what repeats in its first bytes is taken to do so on.
    """
    outline = _Outline()
    outline.read(head)
    is_whole = is_all or outline.is_whole
    way = outline.roots[0] if outline.roots else None
    if way is None:
        return Recognised(ANY_ROOT, 0, is_whole)
    way.add_up()
    found = _find(way, is_whole)
    if found is not None and documents > 1 and (is_whole or size is not None):
        times = 1.0 if is_whole or size is None else max(1.0, size / max(1, len(head)))
        count = found[-1].count * times
        around = way.all_values - found[-1].all_values
        if count < max(_MANY, documents) or (is_whole and around > count):
            found = None
    names = [way.name] if found is None else [kind.name for kind in found]
    path = RecordPath(tuple(NameTest(name.namespace, name.local) for name in names))
    return Recognised(path, way.count if found is None else found[-1].count, is_whole)


def _find(root: _Kind, is_whole: bool) -> list[_Kind] | None:
    """Return the way to the records; None where the document is one."""
    total = max(1, root.all_values)
    way = [root]
    while len(way) < DEPTH_LIMIT:
        level = way[-1]
        heaviest = max(level.children.values(), key=lambda kind: kind.all_values, default=None)
        if heaviest is None or (is_whole and heaviest.all_values < _SHARE * total):
            return None
        way.append(heaviest)
        if heaviest.most_beside > 1:
            return way
        if not heaviest.children:
            return None
    return None


def has_tag(sample: bytes, local: str) -> bool:
    """Say whether a piece of XML has a tag of an element of that local name, whatever its prefix."""
    return re.search(rb"</?(?:[^\s<>/:]+:)?" + re.escape(local.encode()) + rb"[\s/>]", sample) is not None


def looks_plain(sample: bytes) -> bool:
    """Say whether a piece of a file is XML as it is read: neither packed nor in letters of several bytes."""
    return b"<" in sample and b"\0" not in sample


def outline_paths(head: bytes, prefixes: Prefixes) -> list[tuple[str, ...]]:
    """Return the paths of elements and attributes in the first bytes of a source, as names from the root."""
    outline = _Outline()
    outline.read(head[:LOOKED_AT_BYTES])
    found: list[tuple[str, ...]] = []
    pending: list[tuple[_Kind, tuple[str, ...]]] = [(root, ()) for root in outline.roots]
    while pending and len(found) < _MOST_PATHS:
        kind, above = pending.pop()
        path = (*above, kind.name.shown(prefixes))
        found.append(path)
        found += [(*path, f"@{name}") for name in kind.attributes]
        if len(path) < DEPTH_LIMIT:
            pending += [(child, path) for child in reversed(kind.children.values())]
    return found


@dataclass(slots=True)
class _Outline:
    """Reads tags; counts the elements by their place."""

    roots: list[_Kind] = field(default_factory=list)
    is_whole: bool = False

    def read(self, head: bytes) -> None:
        stack: list[tuple[_Kind, dict[Name, int], dict[str, str]]] = []
        at = 0
        while (start := head.find(b"<", at)) >= 0:
            if stack and head[at:start].strip():
                stack[-1][0].values += 1
            found = TOKEN.match(head, start)
            if found is None:
                at = start + 1
                if head[start : start + 2] == b"<!":
                    continue
                break
            at = found.end()
            kind = found.lastgroup
            if kind == "doctype":
                declared = usable_declarations(head, start)
                at = len(head) if declared is None else declared.end
            elif kind in CLOSINGS:
                stop = head.find(CLOSINGS[kind], at)
                at = len(head) if stop < 0 else stop + len(CLOSINGS[kind])
            elif found["end"]:
                if stack:
                    stack.pop()
                self.is_whole = self.is_whole or not stack
            elif found["start"]:
                self._open(found["start"], found["attributes"], stack)
                if found["empty"]:
                    stack.pop()

    def _open(
        self, tag: bytes, attributes: bytes, stack: list[tuple[_Kind, dict[Name, int], dict[str, str]]]
    ) -> None:
        namespaces = stack[-1][2] if stack else {}
        values = list(attributes_of(attributes)) if attributes.strip() else []
        declared = (
            {name[6:]: value for name, value in values if name.partition(":")[0] == "xmlns"}
            if b"xmlns" in attributes
            else {}
        )
        if declared:
            namespaces = namespaces | declared
        prefix, _, local = tag.decode("utf-8", "replace").rpartition(":")
        name = Name(namespaces.get(prefix, ""), local)
        if not stack:
            kind = next((root for root in self.roots if root.name == name), None) or _Kind(name)
            if kind not in self.roots:
                self.roots.append(kind)
            beside = 1
        else:
            above, counts, _ = stack[-1]
            kind = above.children.setdefault(name, _Kind(name))
            beside = counts[name] = counts.get(name, 0) + 1
        kind.count += 1
        kind.most_beside = max(kind.most_beside, beside)
        kind.values += len(values) - len(declared)
        kind.attributes.update((name, None) for name, _ in values if name.partition(":")[0] != "xmlns")
        stack.append((kind, {}, namespaces))


def known_prefixes(head: bytes, prefixes: Prefixes) -> None:
    """Let `prefixes` learn the namespaces declared in the first bytes of a source."""
    for prefix, namespace in declarations_in(head):
        prefixes.learn(prefix, namespace)
