"""A sample of a source: few records that show its structures, as they are or masked."""

from __future__ import annotations

import secrets
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from tessaron.core.base.errors import TargetError, UsageError
from tessaron.core.base.json_text import json_text
from tessaron.core.base.parsed_values import Parsed
from tessaron.core.cutting.json_splitting import OuterForm
from tessaron.core.kernel.contract import KernelOptions
from tessaron.core.kernel.tape_builder import TapeBuilder
from tessaron.core.query.jsonpath import JsonPath, parse_path
from tessaron.core.sample.choosing import Choice
from tessaron.core.sample.masking import Mask
from tessaron.core.shape.shape import Shape
from tessaron.core.shape.shape_node import ShapeNode
from tessaron.core.shape.structure import settle
from tessaron.core.tape.emission import emit
from tessaron.engine.path_reading import PathReader, parse_chunk
from tessaron.sinks.syncing import write_file
from tessaron.sources.formats import xml_inputs
from tessaron.sources.inputs import ByteInput
from tessaron.sources.json_chunks import Agreed, ChunkReader, agreed_place
from tessaron.sources.resolving import Source, resolve_inputs

_CHUNK_BYTES = 1024 * 1024


@dataclass(frozen=True, slots=True)
class SampleTaken:
    """What a sample was taken of.

    Attributes:
        records: Records in the sample.
        seen: Records in the source.
        masked: Whether the values were replaced.
    """

    records: int
    seen: int
    masked: bool


@dataclass(slots=True)
class _Source:
    """The records of one source, and what stood around them."""

    choice: Choice
    form: OuterForm | None = None
    names: tuple[str, ...] = ()
    around: Any = field(default=None)


def sample(
    source: Source,
    target: str | Path,
    *,
    first: int,
    mask: bool = False,
    records: str | None = None,
    replace: bool = False,
    on_bytes: Callable[[int], None] = lambda count: None,
) -> SampleTaken:
    """Write a small file with the same structure as `source`.

    It has the records that show rare structures (every path and every kind at it, as far as `first` allows)
    and for the rest the first ones, in the same outer form: lines, an array, or inside what stood around.

    Args:
        source: A path, bytes or an open binary file, as in `shred`; the first of several gives the form.
        target: The file to write.
        first: So many records.
        mask: Whether values are replaced by others of the same look: the same value always by the same one,
            by a secret that is not written anywhere.
        records: Where the records stand, as JSONPath; else recognised.
        replace: Whether a file that is there may be replaced.
        on_bytes: Is told how many more bytes were read.

    Raises:
        SourceError: When a source cannot be read.
        DataError: When it is not JSON.
        TargetError: When the target is there already or cannot be written.
    """
    path = Path(target)
    if path.exists() and not replace:
        raise TargetError(f"{path}: is there already; choose another name, or replace it with --replace")
    where = None if records is None else parse_path(records)
    found = _Source(Choice(first))
    inputs = resolve_inputs(source)
    if xml_inputs(inputs) is not None:
        raise UsageError(
            "a sample is taken of JSON; for XML, cut lines: tessaron values … | head | tessaron compose"
        )
    agreed = agreed_place(inputs) if where is None else None
    for entry in inputs:
        if not isinstance(entry, ByteInput):
            raise UsageError("a sample is taken of files or bytes, not of objects")
        _read(entry, where, agreed, found, on_bytes)
    chosen = found.choice.chosen()
    if mask:
        chosen, found.around = _masked(chosen, found.around)
    _write(path, _text(chosen, found))
    return SampleTaken(len(chosen), found.choice.seen, mask)


def _read(
    entry: ByteInput,
    where: JsonPath | None,
    agreed: Agreed | None,
    found: _Source,
    on_bytes: Callable[[int], None],
) -> None:
    is_known = where is None and entry.records is not None
    where = parse_path(str(entry.records)) if is_known else where
    if where is not None and where.segments and (is_known or where.plain_names() is None):
        for match in PathReader([entry], where, on_bytes=on_bytes):
            found.choice.take(match.match.value)
        found.form = OuterForm.LINES
        return
    options = KernelOptions()
    reader = ChunkReader(entry, on_bytes, _CHUNK_BYTES, where, agreed=agreed)
    for chunk in reader:
        if chunk.is_skeleton and found.around is None and chunk.data:
            found.around = next(iter(parse_chunk(chunk, entry.name, options, 0)))[0]
        elif not chunk.is_skeleton:
            for value, _ in parse_chunk(chunk, entry.name, options, found.choice.seen):
                found.choice.take(dict([value]) if chunk.is_members else value)
    if reader.place is not None and found.form is None:
        found.form, found.names = reader.place.form, reader.place.names or ()


def _masked(records: list[Parsed], around: Parsed) -> tuple[list[Parsed], Parsed]:
    mask = Mask(secrets.token_bytes(32))
    shape = _shape_of(records)
    return [mask.value(record, shape) for record in records], mask.value(around)


def _shape_of(records: list[Parsed]) -> ShapeNode:
    builder = TapeBuilder()
    for record in records:
        builder.add(record)
    shape = Shape()
    shape.add(emit(builder.finish()))
    settle(shape)
    return shape.record


def _text(records: list[Parsed], found: _Source) -> str:
    lines = [json_text(record, ascii_only=False) for record in records]
    if found.names and isinstance(found.around, dict):
        return _inside(records, found) + "\n"
    if found.form is OuterForm.ARRAY:
        return "[\n" + ",\n".join(lines) + "\n]\n"
    return "".join(line + "\n" for line in lines)


def _inside(records: list[Parsed], found: _Source) -> str:
    """Return the document with the records where they stood."""
    *way, last = found.names
    container = found.around
    for name in way:
        container = container[name]
    if isinstance(container.get(last), dict):
        container[last] = {name: value for record in records for name, value in record.items()}
    else:
        container[last] = records
    return json_text(found.around, ascii_only=False)


def _write(path: Path, text: str) -> None:
    try:
        write_file(path, text)
    except OSError as error:
        raise TargetError(f"{path}: cannot be written: {error.strerror}") from error
