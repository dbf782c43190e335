"""The compiled part of the XML kernel: for chunks in which lxml has found nothing wrong."""

from __future__ import annotations

import re
from functools import lru_cache

from lxml import etree

from tessaron.core.base.paths import MARKUP
from tessaron.core.cutting.pruning import pruned
from tessaron.core.cutting.selecting import SCALARS, Selection
from tessaron.core.cutting.xml_chunks import RecordRun, XmlChunk
from tessaron.core.kernel.contract import XmlOptions
from tessaron.core.kernel.xml_parsing import safe_parser
from tessaron.core.tape.tape import Tape

_Above = tuple[tuple[str, str], ...]
"""Values by their step."""
_CLEANS = {"keep": 0, "trim": 1, "collapse": 2}
_ENTITY = re.compile(rb"<!ENTITY\s+([^\s%\"']+)\s")


def can_be_fast(chunk: XmlChunk, options: XmlOptions) -> bool:
    """Say whether the compiled code can read a chunk: nothing is asked of elements of lxml themselves."""
    if options.predicates or options.location or options.schema is not None or not options.compiled:
        return False
    if options.keeps_order and options.selection is not None:
        return False
    # Default attributes are lxml's to set; records that stood in a skeleton are told by instructions.
    return not chunk.is_skeleton and b"<!ATTLIST" not in chunk.context.declarations


def read_xml_fast(chunk: XmlChunk, options: XmlOptions) -> Tape | None:
    """Return the tape of the records in `chunk`, all well-formed; None if it has to be made in Python."""
    from tessaron.core.compiled._fastjson import parse_xml

    context = chunk.context
    lanes = parse_xml(
        chunk.data,
        tuple(chunk.prefixes.items()),
        context.namespaces,
        entities_of(context.declarations),
        _above(chunk, options.selection),
        _CLEANS[options.white_space],
        context.keeps_space,
        options.keeps_order,
    )
    if lanes is None:
        return None
    tape = Tape.of_lanes(lanes)
    if len(tape.offsets) != len(chunk.starts):
        return None
    counts = {"comment()": lanes["comments"], "processing-instruction()": lanes["instructions"]}
    tape.left_out = {test: count for test, count in counts.items() if count}
    return tape if options.selection is None else pruned(tape, options.selection)


def _above(chunk: XmlChunk, selection: Selection | None) -> tuple[tuple[int, _Above], ...]:
    """Return of each run of records where it ends, and the steps and values above it that are wanted."""
    if not any(run.above for run in chunk.runs):
        return ()
    stops = [*(run.start for run in chunk.runs[1:]), len(chunk.data)]
    return tuple((stop, tuple(_wanted(run, selection))) for run, stop in zip(chunk.runs, stops, strict=True))


def _wanted(run: RecordRun, selection: Selection | None) -> list[tuple[str, str]]:
    return [(MARKUP + name, value) for name, value in run.above if _is_wanted(MARKUP + name, selection)]


def _is_wanted(step: str, selection: Selection | None) -> bool:
    if selection is None:
        return True
    place = selection.step(0, step)
    return place >= 0 and bool(selection.wanted(place) & SCALARS)


@lru_cache(maxsize=4)
def entities_of(declarations: bytes) -> tuple[tuple[str, str, str], ...]:
    """Return the entities that are declared and hold text only: name, text in content, text in attributes.

    What they come to is asked of lxml; where it refuses one, or they hold markup, they are left out.
    """
    names = list(dict.fromkeys(_ENTITY.findall(declarations)))
    contents = _expanded(declarations, b"".join(b"<e>&%b;</e>" % name for name in names)) if names else None
    if contents is None:
        return ()
    plain = [(name, each.text or "") for name, each in zip(names, contents, strict=True) if not len(each)]
    inside = _expanded(declarations, b"".join(b'<e a="&%b;"/>' % name for name, _ in plain))
    if inside is None:
        return ()
    return tuple(
        (name.decode(), text, each.get("a", "")) for (name, text), each in zip(plain, inside, strict=True)
    )


def _expanded(declarations: bytes, markup: bytes) -> list[etree._Element] | None:
    doctype = b"<!DOCTYPE r [%b]>" % declarations.replace(b"\n", b" ")
    try:
        return list(etree.fromstring(doctype + b"<r>" + markup + b"</r>", safe_parser(declarations)))
    except etree.XMLSyntaxError:
        return None
