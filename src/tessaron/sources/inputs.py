"""What a user may give as a source, and how its bytes or records are got at."""

from __future__ import annotations

import glob
import io
import os
import re
from collections.abc import Iterator, Mapping, Sequence
from contextlib import AbstractContextManager, nullcontext
from dataclasses import dataclass
from pathlib import Path
from typing import IO, Any, BinaryIO, cast

from tessaron.core.base.errors import SourceError, UsageError
from tessaron.core.base.visible import clipped

_PLAIN_ENDINGS = (".json", ".ndjson", ".jsonl", ".json-seq", ".geojson")
_PACKED = ("", ".gz", ".bz2", ".xz", ".zst")
JSON_ENDINGS = tuple(ending + packed for ending in _PLAIN_ENDINGS for packed in _PACKED)
XML_ENDINGS = tuple(".xml" + packed for packed in _PACKED)
"""The endings of files that are taken from a folder; a file named by itself may have any."""


@dataclass(frozen=True, slots=True)
class ByteInput:
    """A source of bytes.

    Attributes:
        name: What it is called in messages and in the receipt.
        size: Bytes in it, if known beforehand.
        path: The file, if it is one.
        stream: The open file or the bytes, if they were given.
    """

    name: str
    size: int | None = None
    path: Path | None = None
    stream: BinaryIO | None = None

    def changed(self) -> str:
        """Return how the file is no longer what it was when it was found; empty if it is, or is none."""
        if self.path is None or self.size is None:
            return ""
        try:
            size = self.path.stat().st_size
        except OSError:
            return "the file vanished while it was read"
        if size == self.size:
            return ""
        return f"the file changed while it was read: {self.size:,} bytes at first, {size:,} at the end"

    def open(self) -> AbstractContextManager[BinaryIO]:
        """Return the bytes from where they begin; closes only what it opened itself.

        Raises:
            SourceError: When the file cannot be opened.
        """
        if self.stream is not None:
            return nullcontext(self.stream)
        assert self.path is not None
        try:
            return cast("AbstractContextManager[BinaryIO]", open(self.path, "rb"))
        except OSError as error:
            raise SourceError(f"{self.name}: cannot be read: {error.strerror}") from error


@dataclass(frozen=True, slots=True)
class ObjectInput:
    """A source of Python objects that are records already."""

    records: Iterator[Any]
    name: str = "<objects>"
    size: int | None = None


Input = ByteInput | ObjectInput


Source = (
    str | os.PathLike[str] | bytes | bytearray | memoryview | IO[bytes] | Mapping[str, object]
    | Sequence[object] | Iterator[object]
)  # fmt: skip
"""What documents may come from; see `resolve_inputs`."""


def resolve_inputs(source: Source) -> list[Input]:
    """Return the inputs that `source` stands for.

    Args:
        source: A path (file, folder or pattern), a text or bytes of JSON or XML, an open binary file, a dict
            (one record), a list or an
            iterator of records, or a list of paths, read one after the other as one feed.

    Raises:
        SourceError: When a path leads nowhere, or a folder has no JSON or XML file, or both.
        UsageError: When `source` is none of these.
    """
    if isinstance(source, str):
        return list(_inputs_of_text(source))
    if isinstance(source, os.PathLike):
        return list(_inputs_of_path(Path(source)))
    if isinstance(source, (bytes, bytearray, memoryview)):
        return [_input_of_bytes(bytes(source), "<bytes>")]
    if hasattr(source, "read"):
        return [_input_of_file(source)]
    if isinstance(source, Mapping):
        return [ObjectInput(iter([dict(source)]))]
    if isinstance(source, (list, tuple)):
        if source and all(isinstance(item, (str, os.PathLike)) for item in source):
            return [found for item in source for found in resolve_inputs(item)]
        return [ObjectInput(iter(source))]
    if isinstance(source, Iterator):
        return [ObjectInput(source)]
    raise UsageError(
        f"expected a path, bytes, an open binary file, a dict, a list or an iterator as source, "
        f"got {type(source).__name__}"
    )


def _input_of_bytes(data: bytes, name: str) -> ByteInput:
    return ByteInput(name, len(data), stream=io.BytesIO(data))


def _inputs_of_text(text: str) -> Iterator[ByteInput]:
    """Yield the inputs of a text: the path of what is there, or a document itself."""
    start, end = text.lstrip()[:1], text.rstrip()[-1:]
    if (start, end) in (("{", "}"), ("<", ">")) or ((start, end) == ("[", "]") and not _names_files(text)):
        yield _input_of_bytes(text.encode(), "<text>")
        return
    yield from _inputs_of_path(Path(text))


def _names_files(text: str) -> bool:
    try:
        return _is_there(Path(text)) or bool(glob.glob(text, recursive=True))
    except (OSError, ValueError):
        return False


def _is_there(path: Path) -> bool:
    """Say whether something stands at a path; nothing does at one that no system takes."""
    try:
        return path.exists()
    except OSError:
        return False


def _input_of_file(stream: Any) -> ByteInput:
    if isinstance(stream, io.TextIOBase):
        raise UsageError("expected a file opened in binary mode, got a text file; open it with mode 'rb'")
    name = getattr(stream, "name", None)
    return ByteInput(name if isinstance(name, str) else "<stream>", stream=stream)


def _inputs_of_path(path: Path) -> Iterator[ByteInput]:
    if not _is_there(path) and any(letter in str(path) for letter in "*?["):
        found = sorted((Path(name) for name in glob.glob(str(path), recursive=True)), key=natural_order)
        if not found:
            raise SourceError(f"{path}: no file matches this pattern")
        for each in found:
            yield from _inputs_of_path(each)
    elif _is_there(path) and path.is_dir():
        json_files, xml_files = (sorted(_files(path, each), key=natural_order) for each in _ENDINGS)
        if json_files and xml_files:
            raise SourceError(
                f"{path}: there are {len(json_files):,} JSON files and {len(xml_files):,} XML files in this "
                f"folder; say which, for instance '{path}/*.xml'"
            )
        if not json_files and not xml_files:
            raise SourceError(
                f"{path}: no JSON or XML file in this folder (looked for {', '.join(_PLAIN_ENDINGS)} and "
                ".xml, also packed); name the files themselves if they end differently"
            )
        yield from map(_input_of_path, json_files or xml_files)
    else:
        yield _input_of_path(path)


_ENDINGS = (JSON_ENDINGS, XML_ENDINGS)


def _files(folder: Path, endings: tuple[str, ...]) -> Iterator[Path]:
    for root, folders, files in os.walk(folder):
        folders[:] = [name for name in folders if not name.startswith(".")]
        yield from (
            Path(root, name) for name in files if name.lower().endswith(endings) and not name.startswith(".")
        )


def natural_order(path: Path) -> list[tuple[tuple[int, int | str], ...]]:
    """Return a key that sorts `part-2` before `part-10`."""
    return [
        tuple(
            (0, int(piece)) if piece.isdecimal() else (1, piece)
            for piece in re.split(r"(\d+)", part)
            if piece
        )
        for part in path.parts
    ]


def _input_of_path(path: Path) -> ByteInput:
    try:
        status = path.stat()
    except OSError as error:
        shown = clipped(str(path))
        if isinstance(error, FileNotFoundError):
            raise SourceError(
                f"{shown}: cannot be read: {error.strerror}; expected the path of files, or JSON or XML "
                "itself; check the name"
            ) from error
        raise SourceError(f"{shown}: cannot be read: {error.strerror}") from error
    return ByteInput(str(path), status.st_size or None, path=path)
