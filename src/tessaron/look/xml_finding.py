"""Evaluating XPath 1.0 on documents of XML, as a whole or, where the path allows, record by record."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from copy import deepcopy
from dataclasses import dataclass, field
from typing import Any

from tessaron.core.base.errors import DataError, Place, UsageError
from tessaron.core.base.parsed_values import Parsed, XmlElement
from tessaron.core.cutting.record_elements import outline_paths
from tessaron.core.cutting.xml_chunks import XmlChunk
from tessaron.core.kernel.xml_parsing import RecordError, XmlParser
from tessaron.core.markup.namespaces import Prefixes
from tessaron.core.query.xpath_location import (
    LocationPath,
    check_expression,
    check_prefixes,
    gives_nodes,
    parse_location,
)
from tessaron.core.query.xpath_results import Expression, XPathResult
from tessaron.sources.inputs import ByteInput
from tessaron.sources.xml_documents import XmlFeed

_CHUNK_BYTES = 1024 * 1024


@dataclass(frozen=True, slots=True)
class XmlFound:
    """Something that an expression gave, with its place.

    Attributes:
        result: What it is.
        path: Where it stands in its document, as XPath with positions; empty for what stands nowhere.
        source: Name of the source.
        record: The number of the document among all, or of the record in its source where records were asked
            for, from 1.
        line: The line, from 1.
    """

    result: XPathResult
    path: str
    source: str
    record: int
    line: int

    @property
    def value(self) -> str | float | bool:
        """The value: text, a number or a boolean; of an element all text in it."""
        if self.result.kind == "number":
            return float(self.result.text)
        return self.result.text == "true" if self.result.kind == "boolean" else self.result.text

    @property
    def markup(self) -> str:
        """An element as XML on one line; empty for all else."""
        return self.result.markup


@dataclass(slots=True)
class XPathReader:
    """Evaluates an expression on all documents of the inputs, once.

    Args:
        inputs: Where the documents come from.
        text: The expression, of XPath 1.0.
        records: Where the records stand, on each of which it is evaluated; else on each document.
        namespaces: Namespaces by prefix, beside those that the documents declare.

    Attributes:
        documents: Documents (or records) seen.
        paths: The paths that the first document has, as names, to tell from why nothing is found.
        errors: Why documents could not be read.
    """

    inputs: Sequence[ByteInput]
    text: str
    records: str | None = None
    namespaces: Mapping[str, str] = field(default_factory=dict)
    documents: int = 0
    paths: list[tuple[str, ...]] = field(default_factory=list)
    errors: list[DataError] = field(default_factory=list)
    _expression: Expression | None = None
    _known: dict[str, str] = field(default_factory=dict)

    def __iter__(self) -> Iterator[XmlFound]:
        """Yield what is found, in order.

        Raises:
            SourceError: When a source cannot be read.
            DataError: When no document could be read.
            UsageError: When an expression cannot be right.
        """
        where, rest = self._streamed()
        prefixes = Prefixes(self.namespaces)
        is_whole = where.steps == ("*",) and self.records is None
        feed = XmlFeed(
            self.inputs,
            lambda count: None,
            _CHUNK_BYTES,
            where,
            prefixes,
            keeps_documents=False,
            keeps_beside=is_whole,
            on_wrong=lambda error, _: self.errors.append(error),
        )
        for chunk in feed:
            known = self._known = prefixes.by_prefix()
            if self._expression is None:
                self.paths = outline_paths(feed.head, prefixes)
                check_prefixes(self.text, known)
                self._expression = Expression(rest, known)
            yield from self._in_chunk(chunk, where)
        self.errors += [source.error for source in feed.sources if source.error is not None]
        if not self.paths and feed.head:
            self.paths = outline_paths(feed.head, prefixes)
        if self.errors and not self.documents:
            raise self.errors[0]

    def relative(self, text: str) -> Expression:
        """Return an expression to be evaluated on what is found, with the namespaces of the documents.

        Raises:
            UsageError: When it is none.
        """
        return Expression(text, self._known)

    def _streamed(self) -> tuple[LocationPath, str]:
        """Return what is parsed piece by piece, and the expression to be evaluated on each piece."""
        if self.records is not None:
            return parse_location(self.records), self.text
        path = parse_location(self.text)
        if path.steps and len(path.steps) > 1:
            return LocationPath("/" + "/".join(path.steps), path.steps, path.predicates), "."
        plain = parse_prefix(self.text)
        if plain is not None:
            return plain
        return LocationPath("/*", ("*",)), self.text

    def _in_chunk(self, chunk: XmlChunk, where: LocationPath) -> Iterator[XmlFound]:
        whole = where.steps == ("*",) and self.records is None
        parser = XmlParser(chunk, where.predicates, "" if where.is_streamed else where.text, alone=whole)
        numbers = dict(zip(chunk.starts.tolist(), range(len(chunk.starts)), strict=True))
        looks_back = self.records is not None and not _is_forward(self.text)
        for offset, record in parser.records():
            run = chunk.run_of(offset)
            if isinstance(record, RecordError):
                place = Place(run.name, chunk.line_of(offset), chunk.byte_of(offset + record.byte_offset),
                              column=record.column)  # fmt: skip
                self.errors.append(DataError(record.reason, place, record.code))
                continue
            self.documents += 1
            if record is None:
                continue
            ordinal = run.ordinal + numbers.get(offset, 0) - numbers.get(run.start, 0)
            line = chunk.line_of(offset)
            # What stands beside a record here depends on where the document was cut.
            top = _alone(record) if looks_back else record
            own = f"/{_spelled(top, chunk.prefixes)}"
            above = own if whole or not run.way else f"{run.way}{own}" + f"[{ordinal}]" * (ordinal > 1)
            path_of = _Places(top, above, chunk.prefixes).path_of
            assert self._expression is not None
            context = top.getroottree() if whole else top
            number = run.document if self.records is None else chunk.record_of(offset)
            for result in self._expression.results(context, path_of):
                at = line + result.line - (top.sourceline or 1)
                yield XmlFound(result, result.path, run.name, number, max(at, 1))


def _alone(record: Parsed) -> Parsed:
    copy = deepcopy(record)
    copy.tail = None
    return copy


def parse_prefix(text: str) -> tuple[LocationPath, str] | None:
    """Return the elements that a path of plain steps leads to, and the rest of the path from each of them.

    None where a document has to be held as a whole: for a function, a union, a position, or a way back up.
    """
    for at in range(len(text) - 1, 0, -1):
        if text[at] != "/" or text[:at].endswith("/"):
            continue
        head, rest = text[:at], "." + text[at:]
        if "//" in head or not head.startswith("/"):
            continue
        try:
            path = parse_location(head)
            check_expression(rest)
        except UsageError:
            continue
        if len(path.steps) > 1 and _is_forward(rest) and gives_nodes(rest):
            return path, rest
    return None


_BACKWARD = re.compile(
    r"\.\.|\||\b(?:ancestor|ancestor-or-self|preceding|preceding-sibling|following|following-sibling|parent)\s*::"
    r"|(?:^|[\[(,=<>+*-])\s*/"
)


def _is_forward(rest: str) -> bool:
    return not _BACKWARD.search(re.sub(r"\"[^\"]*\"|'[^']*'", "''", rest))


def _spelled(element: XmlElement, prefixes: Mapping[str, str]) -> str:
    tag = str(element.tag)
    if not tag.startswith("{"):
        return tag
    namespace, _, local = tag[1:].rpartition("}")
    return f"{prefixes[namespace]}:{local}" if namespace in prefixes else local


class _Places:
    """Gives the paths of the nodes in one piece of a document, with the prefixes that all documents share.

    Args:
        top: The outermost element that was parsed.
        above: Its path.
        prefixes: The prefix of each namespace.
    """

    def __init__(self, top: Any, above: str, prefixes: Mapping[str, str]):
        self._top, self._above, self._prefixes = top, above, prefixes
        self._steps: dict[Any, dict[Any, str]] = {}

    def path_of(self, node: XmlElement) -> str:
        """Return the path of an element, comment or instruction."""
        steps: list[str] = []
        while node is not self._top:
            parent = node.getparent()
            if parent is None:
                return self._beside(node)
            steps.append(self._step(parent, node))
            node = parent
        return self._above + "".join(reversed(steps))

    def _beside(self, node: XmlElement) -> str:
        """Return the path of a comment or an instruction beside the outermost element."""
        before = reversed(list(self._top.itersiblings(preceding=True)))
        same = [each for each in (*before, *self._top.itersiblings()) if _test(each) == _test(node)]
        position = same.index(node) + 1
        return f"/{_test(node)}" + f"[{position}]" * (position > 1)

    def _step(self, parent: XmlElement, node: XmlElement) -> str:
        if parent not in self._steps:
            names = [(child, self._name(child)) for child in parent]
            seen: Counter[str] = Counter()
            made: dict[Any, str] = {}
            for child, name in names:
                seen[name] += 1
                made[child] = f"/{name}[{seen[name]}]" if seen[name] > 1 else f"/{name}"
            self._steps[parent] = made
        return self._steps[parent][node]

    def _name(self, node: XmlElement) -> str:
        return _spelled(node, self._prefixes) if isinstance(node.tag, str) else _test(node)


def _test(node: XmlElement) -> str:
    return "processing-instruction()" if hasattr(node, "target") else "comment()"
