"""The compiled part of the XML kernel: for plain chunks in which lxml has found nothing wrong."""

from __future__ import annotations

from tessaron.core.cutting.pruning import pruned
from tessaron.core.cutting.xml_chunks import XmlChunk
from tessaron.core.kernel.contract import XmlOptions
from tessaron.core.markup.namespaces import INSTANCE_NAMESPACE
from tessaron.core.tape.tape import Tape

_NOT_KNOWN = (b"xmlns", b"xml:space")
"""What changes the meaning of names or texts inside of records: then they are walked in Python."""


def can_be_fast(chunk: XmlChunk, options: XmlOptions) -> bool:
    """Say whether a chunk is one that the compiled code knows: nothing special in it."""
    context = chunk.context
    plain = XmlOptions(options.white_space, selection=options.selection)
    is_plain = options == plain and options.white_space != "collapse"
    is_plain &= not context.declarations and not context.keeps_space and not any(r.above for r in chunk.runs)
    spaces = [space for _, space in context.namespaces if space]
    # The compiled code takes names for the same that are written alike, and no others.
    is_plain &= len(spaces) == len(set(spaces))
    return is_plain and not any(mark in chunk.data for mark in _NOT_KNOWN)


def read_xml_fast(chunk: XmlChunk, options: XmlOptions) -> Tape | None:
    """Return the tape of the records in `chunk`, all well-formed; None if it has to be made in Python."""
    from tessaron.core.compiled._fastjson import parse_xml

    declared = chunk.context.namespaces
    spelled = tuple((prefix, chunk.prefixes.get(space, "")) for prefix, space in declared if space)
    nil = next((f"{prefix}:nil" for prefix, space in declared if space == INSTANCE_NAMESPACE and prefix), "")
    lanes = parse_xml(chunk.data, spelled, nil, options.white_space == "trim")
    if lanes is None:
        return None
    tape = Tape.of_lanes(lanes)
    counts = {"comment()": lanes["comments"], "processing-instruction()": lanes["instructions"]}
    tape.left_out = {test: count for test, count in counts.items() if count}
    return tape if options.selection is None else pruned(tape, options.selection)
