"""What an XPath 1.0 expression gives: nodes, texts, numbers and booleans, with their places, as texts."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping
from copy import copy
from dataclasses import dataclass
from decimal import Decimal
from typing import Any, Literal

from lxml import etree

from tessaron.core.base.errors import UsageError
from tessaron.core.base.parsed_values import XmlElement
from tessaron.core.base.visible import in_quotes
from tessaron.core.markup.namespaces import XML_NAMESPACE
from tessaron.core.query.xpath_location import unknown_prefix

ResultKind = Literal["element", "attribute", "text", "comment", "instruction", "number", "boolean"]
_CONTROL = re.compile(r"[\x00-\x08\x0b\x0c\x0e-\x1f\x7f]")
_UNDEFINED = re.compile(r"[Uu]ndefined namespace prefix")


@dataclass(frozen=True, slots=True)
class XPathResult:
    """One thing that an expression gave.

    Attributes:
        kind: What it is.
        text: Its text: of an element all text in it, of a number as XPath writes it.
        markup: An element as XML; else empty.
        path: Where it stands, from the root; empty for what stands nowhere.
        node: The node itself, for an element.
        line: The line of what was parsed in which it stands, from 1.
    """

    kind: ResultKind
    text: str
    markup: str = ""
    path: str = ""
    node: Any = None
    line: int = 1


class Expression:
    """An expression of XPath 1.0, ready to be evaluated.

    Args:
        text: The expression.
        namespaces: Namespaces by prefix.

    Raises:
        UsageError: When it is none, or has a prefix that stands for nothing.
    """

    def __init__(self, text: str, namespaces: Mapping[str, str]):
        self.text = text
        self._namespaces = {prefix: space for prefix, space in namespaces.items() if prefix != "xml"}
        try:
            self._find = etree.XPath(text, namespaces=self._namespaces)
        except (etree.XPathSyntaxError, ValueError) as error:
            raise UsageError(
                f"expected an expression of XPath 1.0, got {in_quotes(text)}: {error}"
            ) from error

    def results(self, context: XmlElement, path_of: Callable[[XmlElement], str]) -> Iterator[XPathResult]:
        """Yield what the expression gives for a context node.

        Args:
            context: An element, or a tree for the document.
            path_of: Gives the path of an element.

        Raises:
            UsageError: When the expression cannot be evaluated.
        """
        try:
            found = self._find(context)
        except etree.XPathEvalError as error:
            if _UNDEFINED.search(str(error)):
                prefixes = re.findall(r"([^\W\d][\w.-]*):(?=[^\W\d:*]|\*)(?!:)", self.text)
                missing = next((each for each in prefixes if each not in self._namespaces), "?")
                raise unknown_prefix(missing, self.text, self._namespaces) from None
            raise UsageError(f"{in_quotes(self.text)} cannot be evaluated: {error}") from error
        if isinstance(found, bool):
            yield XPathResult("boolean", "true" if found else "false")
        elif isinstance(found, float):
            yield XPathResult("number", number_text(found))
        elif isinstance(found, list):
            numbers = _TextNumbers()
            for node in found:
                yield _result_of(node, path_of, numbers)
        else:
            yield XPathResult("text", str(found))


def number_text(value: float) -> str:
    """Return a number as XPath 1.0 (section 4.2, string) writes it: without an exponent or needless zeros."""
    if value != value:
        return "NaN"
    if value in (float("inf"), float("-inf")):
        return "Infinity" if value > 0 else "-Infinity"
    # Adding 0 makes an end of the zero that is negative.
    return format(Decimal(repr(value + 0)), "f").removesuffix(".0")


class _TextNumbers:
    """Gives the position of each text among those of its element; results come in the order of documents."""

    def __init__(self) -> None:
        self._holder: Any = None
        self._numbers: dict[Any, int] = {}

    def number_of(self, holder: XmlElement, before: XmlElement) -> int:
        """Return the position of the text behind a node in an element, or behind its start tag (None)."""
        if holder is not self._holder:
            self._holder, self._numbers = holder, {None: 1}
            count = 1 if holder.text else 0
            for child in holder:
                count += bool(child.tail)
                self._numbers[child] = count
        return self._numbers[before]


def _result_of(node: XmlElement, path_of: Callable[[XmlElement], str], numbers: _TextNumbers) -> XPathResult:
    if isinstance(node, tuple):
        return XPathResult("text", str(node[1] or ""), path=f"namespace::{node[0] or ''}")
    if isinstance(node, str):
        return _text_result(node, path_of, numbers)
    if not isinstance(node.tag, str):
        kind: ResultKind = "instruction" if hasattr(node, "target") else "comment"
        return XPathResult(kind, node.text or "", path=path_of(node), line=node.sourceline or 1)
    text = "".join(node.xpath(".//text()"))
    return XPathResult("element", text, one_line_markup(node), path_of(node), node, node.sourceline or 1)


def _text_result(
    node: XmlElement, path_of: Callable[[XmlElement], str], numbers: _TextNumbers
) -> XPathResult:
    parent = node.getparent() if hasattr(node, "getparent") else None
    if parent is None:
        return XPathResult("text", str(node))
    holder = parent.getparent() if node.is_tail else parent
    above = path_of(holder) if holder is not None else ""
    line = parent.sourceline or 1
    if node.is_attribute:
        return XPathResult(
            "attribute", str(node), path=f"{above}/@{attribute_name(holder, node.attrname)}", line=line
        )
    number = 1 if holder is None else numbers.number_of(holder, parent if node.is_tail else None)
    return XPathResult("text", str(node), path=f"{above}/text()" + f"[{number}]" * (number > 1), line=line)


def attribute_name(element: XmlElement, name: str) -> str:
    """Return the name of an attribute with the prefix that the document has for its namespace."""
    if not name.startswith("{"):
        return name
    namespace, _, local = name[1:].rpartition("}")
    if namespace == XML_NAMESPACE:
        return f"xml:{local}"
    prefix = next((p for p, space in element.nsmap.items() if space == namespace and p), None)
    return f"{prefix}:{local}" if prefix else local


def one_line_markup(element: XmlElement) -> str:
    """Return an element as XML on one line: white space between elements left out, line breaks escaped."""
    own = copy(element)
    own.tail = None
    for each in own.iter(etree.Element):
        texts = [each.text, *(child.tail for child in each)]
        if len(each) and not any(text and text.strip() for text in texts):
            each.text = None
            for child in each:
                child.tail = None
    etree.cleanup_namespaces(own)
    return str(etree.tostring(own, encoding="unicode")).replace("\n", "&#10;")


def one_line(text: str) -> str:
    """Return a text on one line: line breaks, tabs and control characters as escapes."""
    text = text.replace("\\", "\\\\") if "\\" in text and any(c in text for c in "\n\r\t") else text
    text = text.replace("\r", "\\r").replace("\n", "\\n").replace("\t", "\\t")
    return _CONTROL.sub(lambda found: f"\\x{ord(found.group()):02x}", text)
