"""What the documents of a source are written in: told from the first letter that is no space."""

from __future__ import annotations

import io
from dataclasses import replace
from typing import Any, BinaryIO, Literal, cast

from tessaron.core.base.errors import SourceError, TessaronError
from tessaron.core.base.visible import clipped
from tessaron.sources.forms.encodings import Joined, utf8_blocks
from tessaron.sources.inputs import ByteInput, Input

Format = Literal["json", "xml"]
_HEAD_BYTES = 64 * 1024
_BLANK = b" \t\r\n\x00"


def recognise_format(entry: ByteInput) -> tuple[Format, ByteInput]:
    """Return the format of a source, and the source: one that can be read once gets its first bytes back.

    What cannot be read is taken for JSON; whoever reads it then says what is wrong.
    """
    if entry.stream is None:
        with entry.open() as stream:
            return _format_of(entry.name, stream), entry
    head = _read(entry.stream, _HEAD_BYTES)
    found = _format_of(entry.name, io.BytesIO(head))
    return found, replace(entry, stream=cast("Any", Joined(head, entry.stream)))


def xml_inputs(inputs: list[Input]) -> list[ByteInput] | None:
    """Return the inputs if they are XML, told from the first; else None. A stream can still be read.

    Raises:
        SourceError: When the first cannot be opened.
    """
    first = inputs[0] if inputs else None
    if not isinstance(first, ByteInput):
        return None
    found, inputs[0] = recognise_format(first)
    return [entry for entry in inputs if isinstance(entry, ByteInput)] if found == "xml" else None


def _read(stream: BinaryIO, size: int) -> bytes:
    found = b""
    while len(found) < size and (more := stream.read(size - len(found))):
        found += more
    return found


def _format_of(name: str, stream: Any) -> Format:
    try:
        _, blocks = utf8_blocks(name, stream, 4096, lambda count: None)
        for block in blocks:
            first = block.lstrip(_BLANK)
            if first:
                return "xml" if first.startswith(b"<") else "json"
    except TessaronError:
        pass
    return "json"


_ENOUGH_BYTES = 64
_MOST_TOLD = 10
"""So many inputs that were passed over are named."""
_BEGINS = b'{["<-0123456789tfn\x1e'
"""What JSON and XML begin with."""


def unknown_form(entry: ByteInput) -> str:
    """Return why what is in a source is neither JSON nor XML, as its first bytes tell; else nothing."""
    if entry.stream is not None:
        return ""
    try:
        with entry.open() as stream:
            _, blocks = utf8_blocks(entry.name, stream, _HEAD_BYTES, lambda count: None)
            head = b""
            for block in blocks:
                head = (head + block).lstrip(_BLANK)
                if len(head) >= _ENOUGH_BYTES:
                    break
    except TessaronError as error:
        return f"cannot be read ({getattr(error, 'reason', None) or error})"
    if not head:
        return "is empty"
    if head[:1] not in _BEGINS or head.lower().startswith((b"<!doctype html", b"<html")):
        begin = clipped(repr(head[:20].decode("utf-8", "replace")))
        return f"begins with {begin}, which is no JSON or XML"
    return ""


def pass_over_unknown(inputs: list[Input]) -> list[tuple[str, str]]:
    """Take those out of some inputs in which there is neither JSON nor XML; return their names, and why.

    Raises:
        SourceError: When there is none left.
    """
    told = [(entry, unknown_form(entry) if isinstance(entry, ByteInput) else "") for entry in inputs]
    inputs[:] = [entry for entry, said in told if not said]
    passed = [(entry.name, said) for entry, said in told if said]
    if passed and not inputs:
        raise SourceError(f"{passed[0][0]}: {passed[0][1]}, and nothing else is there to read")
    notes = [(name, f"{said}: passed over") for name, said in passed[:_MOST_TOLD]]
    if len(passed) > _MOST_TOLD:
        notes.append((passed[_MOST_TOLD][0], f"and {len(passed) - _MOST_TOLD:,} more were passed over"))
    return notes
