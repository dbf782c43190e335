"""The XML kernel: lxml parses, and what each record holds goes into the lanes of a fragment.

Element, attribute and text become members, named as XPath 1.0 names them; elements of one name beside each
other become an array. So nothing behind the kernel knows the difference.
"""

from __future__ import annotations

import contextlib
from collections.abc import Iterable
from dataclasses import replace
from typing import Any

import numpy as np
from lxml import etree

from tessaron.core.faults import Fault
from tessaron.core.fragment import Fragment, Passed, Role
from tessaron.core.kernel import is_compiled
from tessaron.core.kernel.contract import XmlOptions
from tessaron.core.kernel.fast_xml import can_be_fast, read_xml_fast
from tessaron.core.kernel.growing import GrowingNode, finish_nodes
from tessaron.core.kernel.number_texts import numbers_apart
from tessaron.core.kernel.xml_elements import (
    CLEANING,
    NIL,
    SPACE,
    has_no_element,
    is_bare_nil,
    is_instruction,
    markup_of,
    records_at,
)
from tessaron.core.kernel.xml_order import order_of
from tessaron.core.kernel.xml_parsing import RecordError, XmlParser, safe_parser
from tessaron.core.kinds import Kind
from tessaron.core.paths import ELEMENT, MARKUP, TEXT_STEP, Step
from tessaron.core.selecting import INSIDE, RAW, SCALARS, Selection
from tessaron.core.xml.chunks import XmlChunk
from tessaron.core.xml.namespaces import XML_NAMESPACE

_KEEPS_SPACE = f"{{{XML_NAMESPACE}}}space"
_LEFT_OUT = ("comment()", "processing-instruction()")
_MEMBER = Role.MEMBER
_OBJECT, _ARRAY, _TEXT, _NULL = int(Kind.OBJECT), int(Kind.ARRAY), int(Kind.TEXT), int(Kind.NULL)


def read_xml(chunk: XmlChunk, options: XmlOptions) -> Fragment:
    """Return the fragment of the records in `chunk`: pure, as `contract.Kernel`, with XML for the bytes.

    Args:
        chunk: Whole records, with what holds for them because of what stands above.
        options: See `XmlOptions`.

    Returns:
        The columns of all records that could be read, the faults of the others, and how many comments and
        instructions were left out.
    """
    parser = XmlParser(chunk, options.predicates, options.location)
    if is_compiled() and can_be_fast(chunk, options) and parser.whole() is not None:
        made = read_xml_fast(chunk, options)
        if made is not None:
            return made
    builder = XmlBuilder(chunk.prefixes, options)
    faults: list[Fault] = []
    offsets: list[int] = []
    names: list[str] = []
    for number, (offset, record) in enumerate(parser.records()):
        if isinstance(record, RecordError):
            place = offset + record.byte_offset
            faults.append(Fault(record.code, place, record.reason, record=number, column=record.column))
            if options.keeps_broken:
                builder.add_outline(chunk.run_of(offset).outline)
                offsets.append(offset)
        elif record is not None and (wrong := _invalid(record, chunk, offset, options)) is not None:
            faults.append(replace(wrong, record=number))
        elif record is not None:
            builder.add(record, chunk.context.keeps_space, _above(chunk, offset))
            offsets.append(offset)
            if options.location:
                names.append(builder.spelled(record.tag))
    fragment = builder.finish()
    fragment.names = names
    fragment.faults = faults
    fragment.offsets = np.array(offsets, np.int64)
    return fragment


class XmlBuilder:
    """Collects elements into a fragment.

    Args:
        prefixes: The prefix of each namespace.
        options: See `XmlOptions`.
    """

    def __init__(self, prefixes: Any, options: XmlOptions) -> None:
        self._prefixes = prefixes
        self._root = GrowingNode(0, None, Role.RECORD, None)
        self._nodes = [self._root]
        self._selection: Selection | None = options.selection
        if self._selection is not None:
            self._root.wanted = self._selection.wanted(0)
        self._clean = CLEANING[options.white_space]
        self._left_out = dict.fromkeys(_LEFT_OUT, 0)
        self._keeps_order = options.keeps_order

    def add(self, record: Any, keeps_space: bool = False, above: Iterable[tuple[str, str]] = ()) -> None:
        """Add one record: an element of lxml; `above` are values of the elements it stands in, by path."""
        root = self._root
        row = root.row_count
        root.row_count += 1
        self._raw(root, row, record)
        # The text of a record is a member of it always, whatever stands beside it.
        self._occur(root, row, 0, _OBJECT)
        for name, value in above:
            self._put_above(name, row, value)
        pending = [(root, row, record, keeps_space)]
        while pending:
            inside = self._open(*pending.pop())
            if inside:
                inside.reverse()
                pending += inside

    def _open(
        self, node: GrowingNode, row: int, element: Any, keeps_space: bool
    ) -> list[tuple[GrowingNode, int, Any, bool]]:
        """Record what an element holds; return the elements in it that hold more than text."""
        position = 0
        is_nil = False
        attributes = element.items()
        for name, value in attributes:
            if name[0] == "{":
                if name == NIL and value.strip(SPACE) in ("true", "1"):
                    is_nil = True
                    continue
                if name == _KEEPS_SPACE:
                    keeps_space = value == "preserve"
            child = node.attributes.get(name) or self._grow(node, name, True)
            if child.wanted & SCALARS:
                child.rows.append(row)
                child.kinds.append(_TEXT)
                child.texts.append(value)
                child.positions.append(position)
            else:
                child.passed += 1
            position += 1
        own: str | None = element.text
        inside: list[tuple[GrowingNode, int, Any, bool]] = []
        children = element.getchildren() if len(element) else ()
        if children:
            groups, own = self._grouped(children, own)
            members = node.members
            for name, group in groups.items():
                child = members.get(name) or self._grow(node, name, False)
                self._put(child, row, position, group, keeps_space, inside)
                position += 1
            if self._keeps_order:
                self._put_order(node, row, element, own, keeps_space)
        text = "" if not own else own if keeps_space else self._clean(own)
        if text or (not attributes and node.parent is not None and has_no_element(children)):
            self._put_text(node, row, position, text)
        if is_nil:
            self._put_null(node, row, position)
        return inside

    def _put_order(
        self, node: GrowingNode, row: int, element: Any, own: str | None, keeps_space: bool
    ) -> None:
        """Keep how the wanted elements in an element, and the pieces of its text, stand in order."""
        text = "" if not own else own if keeps_space else self._clean(own)
        order = order_of(element, text, lambda name: bool(node.members[name].wanted), self.spelled)
        if order:
            node.order_rows.append(row)
            node.orders.append(order)

    def _grouped(self, children: list[Any], own: str | None) -> tuple[dict[str, list[Any]], str | None]:
        """Return the elements by their name, and the text of the element around them."""
        groups: dict[str, list[Any]] = {}
        tails = [child.tail for child in children]
        for child in children:
            name = child.tag
            if type(name) is not str:
                self._leave_out(child)
            elif name in groups:
                groups[name].append(child)
            else:
                groups[name] = [child]
        text = "".join([own or "", *[tail for tail in tails if tail]])
        is_mixed = bool(text.strip(SPACE))
        return groups, text if is_mixed or not groups else None

    def _leave_out(self, node: Any) -> None:
        """Count a comment or an instruction."""
        if not records_at(node):
            self._left_out[_LEFT_OUT[is_instruction(node)]] += 1

    def _put(
        self,
        node: GrowingNode,
        row: int,
        position: int,
        group: list[Any],
        keeps_space: bool,
        inside: list[tuple[GrowingNode, int, Any, bool]],
    ) -> None:
        """Record the elements of one name in one element; `inside` gets those that hold more than text."""
        wanted = node.wanted
        if not wanted:
            node.passed += len(group)
            return
        level = node.element
        if len(group) == 1 and level is None and not node.is_level:
            if wanted & RAW:
                self._raw(node, row, group[0])
            self._put_one(node, row, position, group[0], keeps_space, inside)
            return
        if wanted & RAW:
            node.raw_rows.append(row)
            node.raws.append("".join(map(markup_of, group)))
        if not wanted & INSIDE:
            node.passed += 0 if wanted & RAW else len(group)
            return
        self._occur(node, row, position, _ARRAY)
        level = level or self._element_level(node)
        first = level.row_count
        level.row_count += len(group)
        level.parent_rows.extend([row] * len(group))
        level.ordinals.extend(range(1, len(group) + 1))
        if not level.wanted:
            level.passed += len(group)
            return
        for offset, element in enumerate(group):
            if level.wanted & RAW:
                self._raw(level, first + offset, element)
            self._put_one(level, first + offset, 0, element, keeps_space, inside)

    def _put_one(
        self,
        node: GrowingNode,
        row: int,
        position: int,
        element: Any,
        keeps_space: bool,
        inside: list[tuple[GrowingNode, int, Any, bool]],
    ) -> None:
        wanted = node.wanted
        if not element.keys() and (not len(element) or has_no_element(element)):
            if wanted & SCALARS:
                text = self._text_among_comments(element) if len(element) else element.text
                node.texts.append("" if text is None else text if keeps_space else self._clean(text))
                node.rows.append(row)
                node.kinds.append(_TEXT)
                if node.role is _MEMBER:
                    node.positions.append(position)
            else:
                self._put_text_only(node, row, position, element, keeps_space, inside)
            return
        if wanted & INSIDE:
            if is_bare_nil(element):
                self._text_among_comments(element)
                self._occur(node, row, position, _NULL)
                return
            self._occur(node, row, position, _OBJECT)
            inside.append((node, row, element, keeps_space))
            return
        self._put_outside(node, row, position, element, keeps_space)

    def _text_among_comments(self, element: Any) -> str:
        """Return the text of an element that holds no others; what else it holds is counted."""
        for child in element:
            self._leave_out(child)
        return "".join([element.text or "", *(child.tail or "" for child in element)])

    def _put_text_only(
        self,
        node: GrowingNode,
        row: int,
        position: int,
        element: Any,
        keeps_space: bool,
        inside: list[tuple[GrowingNode, int, Any, bool]],
    ) -> None:
        """Record an element that holds text only where what stands in it is wanted, or nothing."""
        if node.wanted & INSIDE:
            self._occur(node, row, position, _OBJECT)
            inside.append((node, row, element, keeps_space))
        elif not node.wanted & RAW:
            node.passed += bool(self._clean(element.text or ""))

    def _put_outside(
        self, node: GrowingNode, row: int, position: int, element: Any, keeps_space: bool
    ) -> None:
        """Record an element of which only the text is wanted, and count what else it holds."""
        if not node.wanted & SCALARS:
            node.passed += not node.wanted & RAW
            return
        if element.get(NIL, "").strip(SPACE) in ("true", "1"):
            self._occur(node, row, position, _NULL)
            return
        for name in element.attrib:
            (node.attributes.get(name) or self._grow(node, name, True)).passed += 1
        own = element.text
        if len(element):
            groups, own = self._grouped(element.getchildren(), own)
            for name, group in groups.items():
                (node.members.get(name) or self._grow(node, name, False)).passed += len(group)
        text = (own or "") if keeps_space else self._clean(own or "")
        self._occur(node, row, position, _TEXT)
        node.texts.append(text)

    def add_outline(self, outline: bytes) -> None:
        """Add a record of elements with nothing else in them; where there are none, an empty one."""
        with contextlib.suppress(etree.XMLSyntaxError):
            # Names that are none, which tags can have, stand in no row.
            self.add(etree.fromstring(outline or b"<", safe_parser()))
            return
        self._occur(self._root, self._root.row_count, 0, _OBJECT)
        self._root.row_count += 1

    def _put_above(self, name: str, row: int, value: str) -> None:
        root = self._root
        child = root.attributes.get(name)
        if child is None:
            child = root.attributes[name] = self._new(root, Role.MEMBER, MARKUP + name, MARKUP + name)
        if child.wanted & SCALARS:
            self._occur(child, row, 0, _TEXT)
            child.texts.append(value)

    def _put_text(self, node: GrowingNode, row: int, position: int, text: str) -> None:
        child = node.members.get(TEXT_STEP) or self._grow(node, TEXT_STEP, False)
        if child.wanted & SCALARS:
            self._occur(child, row, position, _TEXT)
            child.texts.append(text)
        else:
            child.passed += bool(text)

    def _put_null(self, node: GrowingNode, row: int, position: int) -> None:
        child = node.members.get(TEXT_STEP) or self._grow(node, TEXT_STEP, False)
        if child.wanted & SCALARS and not (child.rows and child.rows[-1] == row):
            self._occur(child, row, position, _NULL)

    def _occur(self, node: GrowingNode, row: int, position: int, kind: int) -> None:
        node.rows.append(row)
        node.kinds.append(kind)
        if node.role is _MEMBER:
            node.positions.append(position)

    def _raw(self, node: GrowingNode, row: int, element: Any) -> None:
        if node.wanted & RAW:
            node.raw_rows.append(row)
            node.raws.append(markup_of(element))

    def _grow(self, parent: GrowingNode, name: str, is_attribute: bool) -> GrowingNode:
        step = TEXT_STEP if name == TEXT_STEP else MARKUP + "@" * is_attribute + self.spelled(name)
        node = self._new(parent, Role.MEMBER, step, step)
        (parent.attributes if is_attribute else parent.members)[name] = node
        if self._selection is not None and node.place >= 0:
            node.is_level = self._selection.is_level(node.place)
        return node

    def _element_level(self, parent: GrowingNode) -> GrowingNode:
        if parent.element is None:
            parent.element = self._new(parent, Role.ELEMENT, None, ELEMENT)
        return parent.element

    def _new(self, parent: GrowingNode, role: Role, name: str | None, step: Step) -> GrowingNode:
        node = GrowingNode(len(self._nodes), parent, role, name)
        self._nodes.append(node)
        if self._selection is not None:
            node.place = self._selection.step(parent.place, step) if parent.place >= 0 else -1
            node.wanted = self._selection.wanted(node.place) if node.place >= 0 else 0
        return node

    def spelled(self, name: str) -> str:
        """Return a name of lxml as paths spell it."""
        if name[0] != "{":
            return name
        namespace, _, local = name[1:].rpartition("}")
        prefix = self._prefixes.get(namespace)
        return f"{prefix}:{local}" if prefix else local

    def finish(self) -> Fragment:
        """Return the fragment of all records added."""
        fragment = finish_nodes(self._nodes)
        for node in fragment.nodes:
            if len(node.texts) and node.role is not Role.ORIGIN:
                numbers_apart(node)
        fragment.passed += [
            Passed(0, f"{MARKUP}.//{test}", Role.MEMBER, count, True)
            for test, count in self._left_out.items()
            if count
        ]
        return fragment


def _invalid(record: Any, chunk: XmlChunk, offset: int, options: XmlOptions) -> Fault | None:
    """Return why a record is not as its schema says; None if it is, or there is no schema."""
    if options.schema is None:
        return None
    from tessaron.core.xml.validating import find_invalid

    found = find_invalid(options.schema, record)
    if found is None:
        return None
    at = offset
    for _ in range(found.line - (record.sourceline or 1)):
        at = chunk.data.find(b"\n", at) + 1
    return Fault("schema", at, f"not as the schema says: {found.reason}")


def _above(chunk: XmlChunk, offset: int) -> tuple[tuple[str, str], ...]:
    """Return the values above the record at `offset`; they are only there where they are wanted."""
    return chunk.run_of(offset).above if any(run.above for run in chunk.runs[:1]) else ()
