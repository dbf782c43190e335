"""XML documents as lines, one for each attribute and text with its place; and XML of such lines again."""

from __future__ import annotations

import json
import re
from collections import deque
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from typing import Any, NoReturn

from lxml import etree

from tessaron.core.base.errors import Code, DataError, Place
from tessaron.core.base.parsed_values import XmlElement
from tessaron.core.base.visible import in_quotes
from tessaron.core.markup.namespaces import XML_NAMESPACE, Prefixes

_SPACE = " \t\r\n"
_STEP = re.compile(
    r"/(?P<name>(?:[^\W\d][\w.-]*:)?[^\W\d][\w.-]*)(?:\[(?P<at>[1-9][0-9]{0,15})\])?(?![\w(:])"
    r"|/@(?P<attribute>(?:[^\W\d][\w.-]*:)?[^\W\d][\w.-]*)\Z"
    r"|/text\(\)(?:\[(?P<text>[1-9][0-9]{0,15})\])?\Z|/namespace::(?P<prefix>[^\W\d][\w.-]*)\Z"
)
_READ_EVENTS = ("start", "end", "start-ns")


_MOST_HELD = 1_000
"""So many lines, at most, wait for whether the white space before them is part of a text."""


class _Nothing(etree.Resolver):  # type: ignore[misc]  # lxml has no types
    """Gives nothing for what stands elsewhere: to know default attributes the parser would fetch them too."""

    def resolve(self, url: str, public_id: str, context: Any) -> Any:
        """Return an empty external subset."""
        return self.resolve_string("", context)


def safe_pull_parser() -> Any:
    """Return a parser that is fed blocks of UTF-8 and fetches nothing; see `xml_parsing.safe_parser`."""
    parser = etree.XMLPullParser(
        _READ_EVENTS, encoding="utf-8", resolve_entities="internal", no_network=True, load_dtd=False,
        huge_tree=False, remove_comments=True, remove_pis=True, attribute_defaults=True,
    )  # fmt: skip
    parser.resolvers.add(_Nothing())
    return parser


class UndeclaredPrefixError(ValueError):
    """A prefix that stands for no namespace, and the line where it stands."""

    def __init__(self, prefix: str, line: int):
        super().__init__(prefix, line)
        self.prefix, self.line = prefix, line


@dataclass(slots=True)
class _Open:
    """An element that is open: its path, how many elements of each name stood in it, and texts so far."""

    path: str
    counts: dict[str, int] = field(default_factory=dict)
    texts: int = 0
    has_line: bool = False
    is_mixed: bool = False
    """Whether text that is more than white space stands in it among elements."""
    is_closed: bool = False


@dataclass(frozen=True, slots=True)
class _Text:
    """A piece of the text of an element that has elements in it; its line waits for its number."""

    opened: _Open
    text: str


class ValueLines:
    """Takes blocks of one document, gives its lines; holds no more than the element that is open.

    Args:
        prefixes: Learns the namespaces.
        root_position: The number of the document, where there are several; else 0.
    """

    def __init__(self, prefixes: Prefixes, root_position: int = 0) -> None:
        self._prefixes = prefixes
        self._parser = safe_pull_parser()
        self._stack: list[_Open] = []
        self._known: set[str] = set()
        self._held: deque[str | _Text] = deque()
        self._root = f"[{root_position}]" if root_position else ""

    def feed(self, block: bytes) -> Iterator[str]:
        """Yield the lines of what ends in a block.

        Raises:
            etree.XMLSyntaxError: When it is not XML.
        """
        self._parser.feed(block)
        yield from self._lines()

    def finish(self) -> Iterator[str]:
        """Yield the last lines.

        Raises:
            etree.XMLSyntaxError: When the document does not end.
        """
        self._parser.close()
        yield from self._lines()

    def _lines(self) -> Iterator[str]:
        for event, item in self._parser.read_events():
            if event == "start-ns":
                self._prefixes.learn(*item)
                continue
            self._held += self._open(item) if event == "start" else self._close(item)
            yield from self._ready()

    def _ready(self) -> Iterator[str]:
        """Yield the lines that are sure to be lines: white space is data in mixed content only."""
        while self._held:
            first = self._held[0]
            if isinstance(first, str):
                yield first
            elif first.opened.is_mixed:
                first.opened.texts += 1
                yield f"{first.opened.path}/text()[{first.opened.texts}]\t{_shown(first.text)}"
            elif not first.opened.is_closed and len(self._held) < _MOST_HELD:
                return
            self._held.popleft()

    def _open(self, element: XmlElement) -> Iterator[str | _Text]:
        name = self._name(element.tag)
        if self._stack:
            above = self._stack[-1]
            yield from self._text(above, _text_before(element))
            above.counts[name] = above.counts.get(name, 0) + 1
            position = above.counts[name]
            above.has_line = True
            self._stack.append(_Open(f"{above.path}/{name}" + (f"[{position}]" if position > 1 else "")))
        else:
            self._stack.append(_Open(f"/{name}{self._root}"))
        path = self._stack[-1].path
        used = [name, *(self._name(each) for each in element.attrib)]
        for prefix in dict.fromkeys(each.partition(":")[0] for each in used if ":" in each):
            if prefix != "xml" and prefix not in self._known:
                self._known.add(prefix)
                namespace = self._prefixes.by_prefix().get(prefix)
                if namespace is None:
                    raise UndeclaredPrefixError(prefix, element.sourceline)
                yield f"{path}/namespace::{prefix}\t{_shown(namespace)}"
        for attribute, value in element.items():
            self._stack[-1].has_line = True
            yield f"{path}/@{self._name(attribute)}\t{_shown(value)}"

    def _close(self, element: XmlElement) -> Iterator[str | _Text]:
        opened = self._stack.pop()
        opened.is_closed = True
        if len(element):
            yield from self._text(opened, element[-1].tail)
        elif opened.counts:
            yield from self._text(opened, element.text)
        elif element.text or not opened.has_line:
            yield f"{opened.path}\t{_shown(element.text or '')}"
        element.clear(keep_tail=True)
        while element.getprevious() is not None:
            del element.getparent()[0]

    def _text(self, opened: _Open, text: str | None) -> Iterator[_Text]:
        """Yield the line of text among elements; white space with line breaks needs text before it."""
        opened.is_mixed = opened.is_mixed or bool(text and text.strip(_SPACE))
        if text and (opened.is_mixed or "\n" not in text):
            yield _Text(opened, text)

    def _name(self, tag: str) -> str:
        if not tag.startswith("{"):
            return tag
        namespace, _, local = tag[1:].rpartition("}")
        return self._prefixes.name(namespace, local)


def _text_before(element: XmlElement) -> str | None:
    previous = element.getprevious()
    text = element.getparent().text if previous is None else previous.tail
    return str(text) if text is not None else None


def _shown(text: str) -> str:
    return json.dumps(text, ensure_ascii=False)


@dataclass(slots=True, eq=False)
class _Branch:
    """An element under construction: its parts in the order in which lines spoke of them."""

    name: str
    attributes: dict[str, str] = field(default_factory=dict)
    parts: list[_Branch | str] = field(default_factory=list)
    elements: dict[tuple[str, int], _Branch] = field(default_factory=dict)
    has_text: bool = False


class XmlComposer:
    """Puts lines together to the documents they describe.

    Args:
        source: Where the lines come from, for messages.
    """

    def __init__(self, source: str):
        self._source = source
        self._line = 0
        self._top = _Branch("")
        self._namespaces: dict[str, str] = {"xml": XML_NAMESPACE}

    def add(self, line: str) -> None:
        """Take in the next line; blank lines are passed over.

        Raises:
            DataError: When it is no path, tab and text as JSON, or contradicts an earlier line.
        """
        self._line += 1
        line = line.rstrip("\r\n")
        if not line.strip():
            return
        path, tab, shown = line.partition("\t")
        if not tab:
            self._fail("expected a path, a tab and a text as JSON, found no tab")
        self._put(path, self._value(shown))

    def _value(self, shown: str) -> str:
        try:
            value = json.loads(shown)
        except ValueError as error:
            self._fail(f"the value is no text in JSON: {error}")
        if not isinstance(value, str):
            self._fail(f"expected a text in quotes, found {shown[:40]}")
        return value

    def _put(self, path: str, value: str) -> None:
        branch, at = self._top, 0
        while at < len(path):
            found = _STEP.match(path, at)
            if found is None:
                self._fail(
                    f"expected a path of names with positions, such as /calls/call[2]/@id, found "
                    f"{in_quotes(path)}"
                )
            at = found.end()
            if found["name"]:
                branch = self._element(branch, found["name"], int(found["at"] or 1))
            elif found["attribute"]:
                if found["attribute"] in branch.attributes:
                    self._fail(f"{path} stands twice; drop one")
                branch.attributes[found["attribute"]] = value
                return
            elif found["prefix"]:
                if self._namespaces.setdefault(found["prefix"], value) != value:
                    self._fail(f"the prefix {found['prefix']} stands for another namespace already")
                return
            else:
                branch.parts.append(value)
                return
        if branch is self._top:
            self._fail("expected a path such as /calls/call[2]/@id, found none")
        if branch.has_text:
            self._fail(f"{path} has a text already; drop one")
        branch.has_text = True
        branch.parts.append(value)

    def _element(self, above: _Branch, name: str, position: int) -> _Branch:
        key = (name, position)
        if key not in above.elements:
            above.elements[key] = _Branch(name)
            above.parts.append(above.elements[key])
        return above.elements[key]

    def documents(self) -> list[XmlElement]:
        """Return the root elements of the documents, in the order of the lines.

        Raises:
            DataError: When there was no line, or a prefix stands for no namespace.
        """
        if not self._top.parts:
            raise DataError(
                "no lines; expected what `tessaron values` prints", Place(self._source), Code.EMPTY
            )
        return [self._made(part) for part in self._top.parts if isinstance(part, _Branch)]

    def _made(self, top: _Branch) -> XmlElement:
        used = {name.partition(":")[0] for name in _names_in(top) if ":" in name}
        spaces = {prefix: self._namespaces[prefix] for prefix in sorted(used & self._namespaces.keys())}
        spaces.pop("xml", None)
        root = etree.Element(self._clark(top.name), nsmap=spaces)
        pending = [(root, top)]
        while pending:
            element, branch = pending.pop()
            for name, value in branch.attributes.items():
                element.set(self._clark(name), self._legal(value))
            last = None
            for part in branch.parts:
                if isinstance(part, _Branch):
                    last = etree.SubElement(element, self._clark(part.name))
                    pending.append((last, part))
                elif last is None:
                    element.text = (element.text or "") + self._legal(part)
                else:
                    last.tail = (last.tail or "") + self._legal(part)
        return root

    def _legal(self, text: str) -> str:
        try:
            etree.Element("x").text = text
        except ValueError:
            raise DataError(
                f"{in_quotes(text[:40])} has a control character, which XML cannot hold",
                Place(self._source),
                Code.LINES,
            ) from None
        return text

    def _clark(self, name: str) -> str:
        prefix, colon, local = name.rpartition(":")
        if not colon:
            return local
        if prefix not in self._namespaces:
            raise DataError(
                f"the prefix {in_quotes(prefix)} stands for no namespace; keep or add a line "
                f'`/…/namespace::{prefix}<TAB>"…"`',
                Place(self._source),
                Code.LINES,
            )
        return f"{{{self._namespaces[prefix]}}}{local}"

    def _fail(self, reason: str) -> NoReturn:
        raise DataError(reason, Place(self._source, line=self._line), Code.LINES)


def _names_in(top: _Branch) -> Iterator[str]:
    pending = [top]
    while pending:
        branch = pending.pop()
        yield branch.name
        yield from branch.attributes
        pending += [part for part in branch.parts if isinstance(part, _Branch)]


def xml_text(root: XmlElement, indent: int | None) -> str:
    """Return a document as XML text, indented by so many spaces a level, or as it is."""
    if indent is not None:
        etree.indent(root, " " * indent)
    return str(etree.tostring(root, encoding="unicode"))


def lines_of(blocks: Iterable[bytes], lines: ValueLines) -> Iterator[str]:
    """Yield the lines of a document that comes in blocks."""
    for block in blocks:
        yield from lines.feed(block)
    yield from lines.finish()
