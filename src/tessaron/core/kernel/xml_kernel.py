"""The XML kernel: lxml parses, and what each record holds goes on a tape.

Element, attribute and text become members, named as XPath 1.0 names them; elements of one name beside each
other become an array. So nothing behind the kernel knows the difference.
"""

from __future__ import annotations

import contextlib
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from lxml import etree

from tessaron.core.base.errors import Code
from tessaron.core.base.faults import Fault
from tessaron.core.base.kinds import Kind
from tessaron.core.base.parsed_values import Parsed, XmlElement
from tessaron.core.base.paths import ELEMENT, MARKUP, TEXT_STEP
from tessaron.core.cutting.selecting import INSIDE, RAW, SCALARS
from tessaron.core.cutting.xml_chunks import XmlChunk
from tessaron.core.kernel import is_compiled
from tessaron.core.kernel.contract import XmlOptions
from tessaron.core.kernel.fast_xml import can_be_fast, read_xml_fast
from tessaron.core.kernel.number_texts import kind_of_text
from tessaron.core.kernel.part_order import order_of
from tessaron.core.kernel.tape_builder import TapeBuilder
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
from tessaron.core.kernel.xml_parsing import RecordError, XmlParser, safe_parser
from tessaron.core.markup.namespaces import XML_NAMESPACE
from tessaron.core.tape.tape import NO_NAME, Mark, Tape

_KEEPS_SPACE = f"{{{XML_NAMESPACE}}}space"
_LEFT_OUT = ("comment()", "processing-instruction()")


def read_xml(chunk: XmlChunk, options: XmlOptions) -> Tape:
    """Return the tape of the records in `chunk`: pure, as `contract.Kernel`, with XML for the bytes.

    Args:
        chunk: Whole records, with what holds for them because of what stands above.
        options: See `XmlOptions`.

    Returns:
        The values of all records that could be read, the faults of the others, and how many comments and
        instructions were left out.
    """
    parser = XmlParser(chunk, options.predicates, options.location)
    if is_compiled() and can_be_fast(chunk, options) and parser.finds_nothing_wrong():
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
    tape = builder.finish()
    tape.element_names = names
    tape.faults = faults
    tape.offsets = np.array(offsets, np.int64)
    return tape


@dataclass(frozen=True, slots=True)
class _Spot:
    """Where a value is to be put: its name, the value it stands in, and its place in the selection."""

    name: int
    parent: int
    place: int


@dataclass(frozen=True, slots=True)
class _Opened:
    """An element that is on the tape, and what stands in it not yet."""

    element: Any
    index: int
    place: int
    keeps_space: bool


class XmlBuilder:
    """Collects elements on a tape.

    Args:
        prefixes: The prefix of each namespace.
        options: See `XmlOptions`.
    """

    def __init__(self, prefixes: Any, options: XmlOptions) -> None:
        self._prefixes = prefixes
        self._tape = TapeBuilder(options.selection)
        self._selection = options.selection
        self._clean = CLEANING[options.white_space]
        self._left_out = dict.fromkeys(_LEFT_OUT, 0)
        self._keeps_order = options.keeps_order
        self._numbers: dict[tuple[str, bool], int] = {}
        self._steps: dict[int, str] = {}

    def add(self, record: Parsed, keeps_space: bool = False, above: Iterable[tuple[str, str]] = ()) -> None:
        """Add one record: an element of lxml; `above` are values of the elements it stands in, by path."""
        # The text of a record is a member of it always, whatever stands beside it.
        index = self._tape.put(Kind.OBJECT, NO_NAME, -1)
        if self._tape.wanted_at(0) & RAW:
            self._tape.put_text(Mark.RAW, NO_NAME, index, markup_of(record))
        for name, value in above:
            step = MARKUP + name
            if self._tape.wanted_at(self._tape.place_below(0, step)) & SCALARS:
                self._put_typed(self._tape.step_number(step), index, value)
        pending = [self._open(_Opened(record, index, 0, keeps_space), is_record=True)]
        while pending:
            opened = next(pending[-1], None)
            if opened is None:
                pending.pop()
            else:
                pending.append(self._open(opened))

    def _open(self, here: _Opened, is_record: bool = False) -> Iterator[_Opened]:
        """Put what an element holds; yield the elements in it that hold more than text, when they are put."""
        element, keeps_space = here.element, here.keeps_space
        is_nil = False
        attributes = element.items()
        for name, value in attributes:
            if name[0] == "{":
                if name == NIL and value.strip(SPACE) in ("true", "1"):
                    is_nil = True
                    continue
                if name == _KEEPS_SPACE:
                    keeps_space = value == "preserve"
            spot = self._spot(here, name, True)
            if self._tape.wanted_at(spot.place) & SCALARS:
                self._put_typed(spot.name, spot.parent, value)
            else:
                self._pass(spot)
        own: str | None = element.text
        children = element.getchildren() if len(element) else ()
        if children:
            groups, own = self._grouped(children, own)
            for name, group in groups.items():
                yield from self._put(self._spot(here, name, False), group, keeps_space)
            if self._keeps_order:
                self._put_order(here, own, keeps_space)
        text = "" if not own else own if keeps_space else self._clean(own)
        wanted = text or (not attributes and not is_record and has_no_element(children))
        if wanted or is_nil:
            self._put_text(self._spot(here, TEXT_STEP, False), text if wanted else None)

    def _put_order(self, here: _Opened, own: str | None, keeps_space: bool) -> None:
        """Keep how the wanted elements in an element, and the pieces of its text, stand in order."""
        text = "" if not own else own if keeps_space else self._clean(own)

        def is_wanted(name: str) -> bool:
            return bool(self._tape.wanted_at(self._spot(here, name, False).place))

        order = order_of(here.element, text, is_wanted, self.spelled)
        if order:
            self._tape.put_text(Mark.ORDER, NO_NAME, here.index, order)

    def _grouped(
        self, children: list[XmlElement], own: str | None
    ) -> tuple[dict[str, list[XmlElement]], str | None]:
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

    def _leave_out(self, node: XmlElement) -> None:
        """Count a comment or an instruction."""
        if not records_at(node):
            self._left_out[_LEFT_OUT[is_instruction(node)]] += 1

    def _put(self, spot: _Spot, group: list[XmlElement], keeps_space: bool) -> Iterator[_Opened]:
        """Put the elements of one name in one element; yield those that hold more than text."""
        wanted = self._tape.wanted_at(spot.place)
        is_level = self._selection is not None and spot.place >= 0 and self._selection.is_level(spot.place)
        if wanted and len(group) == 1 and not is_level:
            yield from self._put_one(spot, group[0], keeps_space)
            return
        if not wanted & INSIDE:
            for _ in group if not wanted & RAW else ():
                self._pass(spot)
            if wanted & RAW:
                self._put_hole(spot, "".join(map(markup_of, group)))
            return
        index = self._tape.put(Kind.ARRAY, spot.name, spot.parent)
        if wanted & RAW:
            self._tape.put_text(Mark.RAW, NO_NAME, index, "".join(map(markup_of, group)))
        each = _Spot(NO_NAME, index, self._tape.place_below(spot.place, ELEMENT))
        is_wanted = bool(self._tape.wanted_at(each.place))
        for element in group:
            if is_wanted:
                yield from self._put_one(each, element, keeps_space)
            else:
                self._pass(each)

    def _put_one(self, spot: _Spot, element: XmlElement, keeps_space: bool) -> Iterator[_Opened]:
        wanted = self._tape.wanted_at(spot.place)
        raw = markup_of(element) if wanted & RAW else None
        if not element.keys() and (not len(element) or has_no_element(element)):
            if wanted & SCALARS:
                text = self._text_among_comments(element) if len(element) else element.text
                shown = "" if text is None else text if keeps_space else self._clean(text)
                self._put_raw(self._put_typed(spot.name, spot.parent, shown), raw)
                return
            if not wanted & INSIDE:
                is_passed = raw is None and bool(self._clean(element.text or ""))
                self._pass(spot) if is_passed else self._put_hole(spot, raw)
                return
        elif not wanted & INSIDE:
            self._put_outside(spot, element, keeps_space, raw)
            return
        elif is_bare_nil(element):
            self._text_among_comments(element)
            self._put_raw(self._tape.put(Kind.NULL, spot.name, spot.parent), raw)
            return
        index = self._tape.put(Kind.OBJECT, spot.name, spot.parent)
        self._put_raw(index, raw)
        yield _Opened(element, index, spot.place, keeps_space)

    def _text_among_comments(self, element: XmlElement) -> str:
        """Return the text of an element that holds no others; what else it holds is counted."""
        for child in element:
            self._leave_out(child)
        return "".join([element.text or "", *(child.tail or "" for child in element)])

    def _put_outside(self, spot: _Spot, element: XmlElement, keeps_space: bool, raw: str | None) -> None:
        """Put an element of which only the text is wanted, and count what else it holds."""
        if not self._tape.wanted_at(spot.place) & SCALARS:
            self._pass(spot) if raw is None else self._put_hole(spot, raw)
            return
        if element.get(NIL, "").strip(SPACE) in ("true", "1"):
            self._put_raw(self._tape.put(Kind.NULL, spot.name, spot.parent), raw)
            return
        own = element.text
        groups: dict[str, list[Any]] = {}
        if len(element):
            groups, own = self._grouped(element.getchildren(), own)
        text = (own or "") if keeps_space else self._clean(own or "")
        index = self._put_typed(spot.name, spot.parent, text)
        self._put_raw(index, raw)
        here = _Opened(element, index, -1, keeps_space)
        for name in element.attrib:
            self._pass(self._spot(here, name, True))
        for name, group in groups.items():
            for _ in group:
                self._pass(self._spot(here, name, False))

    def add_outline(self, outline: bytes) -> None:
        """Add a record of elements with nothing else in them; where there are none, an empty one."""
        with contextlib.suppress(etree.XMLSyntaxError):
            # Names that are none, which tags can have, stand in no row.
            self.add(etree.fromstring(outline or b"<", safe_parser()))
            return
        self._tape.put(Kind.OBJECT, NO_NAME, -1)

    def _put_text(self, spot: _Spot, text: str | None) -> None:
        """Put the text of an element beside what else it holds; None where it is nil."""
        if self._tape.wanted_at(spot.place) & SCALARS:
            if text is None:
                self._tape.put(Kind.NULL, spot.name, spot.parent)
            else:
                self._put_typed(spot.name, spot.parent, text)
        elif text:
            self._pass(spot)

    def _put_typed(self, name: int, parent: int, text: str) -> int:
        """Put a text, as a number if a number gives it back exactly."""
        kind = kind_of_text(text)
        if kind is Kind.INTEGER:
            return self._tape.put(kind, name, parent, int(text))
        return self._tape.put_text(kind, name, parent, text)

    def _put_raw(self, index: int, raw: str | None) -> None:
        if raw is not None:
            self._tape.put_text(Mark.RAW, NO_NAME, index, raw)

    def _put_hole(self, spot: _Spot, raw: str | None) -> None:
        self._put_raw(self._tape.put(Mark.HOLE, spot.name, spot.parent), raw)

    def _pass(self, spot: _Spot) -> None:
        self._tape.put(Mark.PASSED, spot.name, spot.parent)

    def _spot(self, here: _Opened, name: str, is_attribute: bool) -> _Spot:
        number = self._numbers.get((name, is_attribute))
        if number is None:
            step = TEXT_STEP if name == TEXT_STEP else MARKUP + "@" * is_attribute + self.spelled(name)
            number = self._numbers[name, is_attribute] = self._tape.step_number(step)
            self._steps[number] = step
        place = 0 if self._selection is None else self._tape.place_below(here.place, self._steps[number])
        return _Spot(number, here.index, place)

    def spelled(self, name: str) -> str:
        """Return a name of lxml as paths spell it."""
        if name[0] != "{":
            return name
        namespace, _, local = name[1:].rpartition("}")
        prefix = self._prefixes.get(namespace)
        return f"{prefix}:{local}" if prefix else local

    def finish(self) -> Tape:
        """Return the tape of all records added."""
        tape = self._tape.finish()
        tape.left_out = {test: count for test, count in self._left_out.items() if count}
        return tape


def _invalid(record: Parsed, chunk: XmlChunk, offset: int, options: XmlOptions) -> Fault | None:
    """Return why a record is not as its schema says; None if it is, or there is no schema."""
    if options.schema is None:
        return None
    from tessaron.core.markup.validating import find_invalid

    found = find_invalid(options.schema, record)
    if found is None:
        return None
    at = offset
    for _ in range(found.line - (record.sourceline or 1)):
        at = chunk.data.find(b"\n", at) + 1
    return Fault(Code.SCHEMA, at, f"not as the schema says: {found.reason}")


def _above(chunk: XmlChunk, offset: int) -> tuple[tuple[str, str], ...]:
    """Return the values above the record at `offset`; they are only there where they are wanted."""
    return chunk.run_of(offset).above if any(run.above for run in chunk.runs[:1]) else ()
