"""A sample of a source as files: records from all over it, in the form in which they stand there."""

from __future__ import annotations

import io
import json
import zlib
from collections.abc import Callable, Sequence
from contextlib import AbstractContextManager, suppress
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO, cast

from tessaron.core.base.errors import TessaronError
from tessaron.core.cutting.json_splitting import OuterForm
from tessaron.engine.options import Options
from tessaron.sources.forms.encodings import unpacked
from tessaron.sources.forms.gzip_members import MAGIC, GzipMembers
from tessaron.sources.inputs import ByteInput, Input
from tessaron.sources.json_chunks import ChunkReader, agreed_place
from tessaron.sources.spans import Span, SpanLines

MOST_FILES = 24
"""A sample is taken of so many files, at most, all over the listing."""
_BLOCK_BYTES, _HEAD_BYTES = 128 * 1024, 1024 * 1024
_PLACES = 16
"""Of a large file of JSON Lines records are taken at so many places."""


@dataclass(frozen=True, slots=True)
class SampledFile:
    """A file of a sample.

    Attributes:
        path: Where it is.
        bytes: Its bytes.
        packed_bytes: Those of the source that hold them.
        records: So many records of it are the sample; None for all.
    """

    path: Path
    bytes: int
    packed_bytes: int
    records: int | None = None


def sampled_files(
    inputs: Sequence[Input], options: Options, folder: Path, most_bytes: int, is_xml: bool
) -> list[SampledFile]:
    """Write a sample of some inputs into a folder, which is made; return its files.

    Args:
        inputs: The sources.
        options: How they are read.
        folder: Where the files go.
        most_bytes: About so many bytes are taken.
        is_xml: Whether they are XML: then whole documents are taken.
    """
    folder.mkdir()
    chosen = _spread(inputs)
    found: list[SampledFile] = []
    share = max(most_bytes // max(len(chosen), 1), _BLOCK_BYTES)
    for number, entry in enumerate(chosen):
        path = folder / f"{number:04}.{'xml' if is_xml else 'json'}"
        # What cannot be read becomes a reject when the whole is.
        with suppress(TessaronError, OSError):
            made = _of_xml(entry, path) if is_xml else _of_json(entry, inputs, options, path, share)
            found += [made] * bool(made.bytes)
        if sum(each.bytes for each in found) >= most_bytes:
            break
    return found


def _spread(inputs: Sequence[Input]) -> list[ByteInput]:
    """Return some inputs, from all over the listing; the first is among them."""
    files = [each for each in inputs if isinstance(each, ByteInput)]
    step = max(len(files) / MOST_FILES, 1)
    return [files[int(at * step)] for at in range(min(len(files), MOST_FILES))]


def _of_xml(entry: ByteInput, path: Path) -> SampledFile:
    size = 0
    with entry.open() as stream, open(path, "wb") as file:
        whole = unpacked(entry.name, stream)
        while block := whole.read(_BLOCK_BYTES):
            size += file.write(block)
    return SampledFile(path, size, entry.size or size)


def _of_json(
    entry: ByteInput, inputs: Sequence[Input], options: Options, path: Path, share: int
) -> SampledFile:
    counted: list[int] = []
    reader = ChunkReader(
        entry, counted.append, _BLOCK_BYTES, options.path(), must_find=False, agreed=agreed_place(inputs)
    )
    kept: list[bytes] = []
    size = packed = 0
    for chunk in reader:
        if chunk.is_skeleton or not chunk.data:
            continue
        if size + len(chunk.data) > share and _is_spread(entry, reader, share):
            return _of_places(entry, path, share)
        kept.append(chunk.data)
        size, packed = size + len(chunk.data), sum(counted)
        if size >= share:
            break
    begin, end = _around(reader)
    path.write_bytes(begin + b"".join(kept).strip(b", \t\r\n" if begin else b"") + end)
    if size >= share:
        # What was read ahead holds records that were not taken.
        packed = round(size / _expansion_of(entry))
    return SampledFile(path, size, min(packed, entry.size or packed))


def _expansion_of(entry: ByteInput) -> float:
    """Return as how many times its bytes a file comes out, by its first bytes."""
    with entry.open() as stream:
        head = stream.read(_HEAD_BYTES)
    if not head.startswith(MAGIC):
        return 1.0
    size, members = 0, GzipMembers(io.BytesIO(head))
    with suppress(EOFError, OSError, zlib.error):
        while block := members.read(_BLOCK_BYTES):
            size += len(block)
    return max(size / len(head), 1.0)


def _is_spread(entry: ByteInput, reader: ChunkReader, share: int) -> bool:
    """Say whether records can be taken all over a file: it is large, of plain JSON Lines, and not packed."""
    place = reader.place
    is_lines = place is not None and place.form is OuterForm.LINES and place.names is None
    is_plain = entry.path is not None and entry.opener is None and not reader.head.startswith(MAGIC)
    return is_lines and is_plain and (entry.size or 0) > 2 * share and _begins_plain(entry)


def _begins_plain(entry: ByteInput) -> bool:
    with entry.open() as stream:
        return stream.read(1) in (b"{", b"[")


def _of_places(entry: ByteInput, path: Path, share: int) -> SampledFile:
    size, each = entry.size or 0, share // _PLACES
    taken = 0
    with open(path, "wb") as file:
        for place in range(_PLACES):
            start = place * size // _PLACES
            for block in SpanLines(entry.name, _opened_at(entry), Span(start, start + each)):
                taken += file.write(block)
    return SampledFile(path, taken, taken)


def _opened_at(entry: ByteInput) -> Callable[[int], AbstractContextManager[BinaryIO]]:
    def opened(offset: int) -> AbstractContextManager[BinaryIO]:
        stream = entry.open()
        cast("BinaryIO", stream).seek(offset)
        return stream

    return opened


def _around(reader: ChunkReader) -> tuple[bytes, bytes]:
    """Return what stands before and behind records, so that they stand as in the source."""
    place = reader.place
    if place is None or (place.names is None and place.form is not OuterForm.ARRAY):
        return b"", b""
    names = place.names or ()
    begin = "".join(f"{{{json.dumps(name)}: " for name in names)
    return begin.encode() + b"[", b"]" + b"}" * len(names)


def listed(inputs: Sequence[Input]) -> tuple[int, int]:
    """Return how many files there are, and their bytes."""
    return len(inputs), sum(each.size or 0 for each in inputs)
