"""Chunks of whole records of XML, with their places: perhaps of many documents, and of many sources."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from tessaron.core.base.text_lane import Int64s
from tessaron.core.markup.namespaces import Prefixes
from tessaron.core.markup.tokens import TOKEN, declarations_in

_ENDS = np.frombuffer(b" \t\r\n/>", np.uint8)


@dataclass(frozen=True, slots=True)
class Context:
    """What holds for records because of what stands above them.

    Attributes:
        namespaces: Prefixes (empty for the default) with the namespaces they are declared for.
        declarations: Entities and default attributes that the document type declares, as it spells them.
        keeps_space: Whether `xml:space="preserve"` holds.
    """

    namespaces: tuple[tuple[str, str], ...] = ()
    declarations: bytes = b""
    keeps_space: bool = False


@dataclass(frozen=True, slots=True)
class RecordRun:
    """Records of one document that stand side by side.

    Attributes:
        start: Where they begin in the chunk, in bytes.
        source: The number of the source among all, from 0.
        name: Its name.
        byte_offset: Where they begin in the source, in bytes from 0 of its text as UTF-8.
        line: The line of the source where they begin, from 1.
        document: The number of the document among all, from 1.
        record: The number of the first of them in the source, from 1.
        above: Values of the elements above them that are wanted, by their path from the record.
        way: The path of the element they stand in, as XPath with positions; empty for the document itself.
        ordinal: The position of the first among the elements of its name there, from 1.
        enclosing: The numbers of the elements they stand in, innermost first; see `enclosing`.
        outline: For a document without its records: the elements they stood in, and nothing else.
    """

    start: int
    source: int
    name: str
    byte_offset: int
    line: int
    document: int
    record: int
    above: tuple[tuple[str, str], ...] = ()
    way: str = ""
    ordinal: int = 1
    enclosing: tuple[int, ...] = ()
    outline: bytes = b""


@dataclass(frozen=True, slots=True)
class Piece:
    """Records of one run, as they come: what a `RecordRun` says, with the bytes."""

    data: bytes
    starts: list[int]
    byte_offset: int
    line: int
    document: int
    record: int
    context: Context
    above: tuple[tuple[str, str], ...] = ()
    way: str = ""
    ordinal: int = 1
    enclosing: tuple[int, ...] = ()
    outline: bytes = b""


@dataclass(frozen=True, slots=True)
class XmlChunk:
    """Whole records, one after another.

    Attributes:
        data: UTF-8 text of the elements.
        starts: Where each record begins in it, in bytes.
        runs: Where they come from.
        context: What holds for all of them.
        prefixes: The prefix of each namespace.
        is_skeleton: Whether this is a document without the records that stood inside it.
    """

    data: bytes
    starts: Int64s
    runs: tuple[RecordRun, ...]
    context: Context
    prefixes: Mapping[str, str]
    is_skeleton: bool = False

    def run_of(self, offset: int) -> RecordRun:
        """Return the run in which a byte stands."""
        return self.runs[int(np.searchsorted([run.start for run in self.runs], offset, side="right")) - 1]

    def line_of(self, offset: int) -> int:
        """Return the line of its source in which a byte stands, from 1."""
        run = self.run_of(offset)
        return run.line + self.data.count(b"\n", run.start, offset)

    def byte_of(self, offset: int) -> int:
        """Return where in its source a byte stands."""
        run = self.run_of(offset)
        return run.byte_offset + offset - run.start

    def record_of(self, offset: int) -> int:
        """Return the number of the record, in its source, in which a byte stands."""
        run = self.run_of(offset)
        return run.record + int(np.searchsorted(self.starts, offset, side="right")) - 1 - self._before(run)

    def _before(self, run: RecordRun) -> int:
        return int(np.searchsorted(self.starts, run.start))

    def runs_of(self, offsets: Int64s) -> Int64s:
        """Return for records that begin at `offsets`, rising, which of the runs each is in."""
        first = np.array([run.start for run in self.runs], np.int64)
        return np.searchsorted(first, offsets, side="right") - 1

    def lines_of(self, offsets: Int64s) -> Int64s:
        """Return for records that begin at `offsets`, rising, their lines in their sources."""
        first, which = [run.start for run in self.runs], self.runs_of(offsets)
        breaks = np.flatnonzero(np.frombuffer(self.data, np.uint8) == ord("\n"))
        lines = np.searchsorted(breaks, offsets) - np.searchsorted(breaks, first)[which]
        return lines + np.array([run.line for run in self.runs], np.int64)[which]

    def numbers_of(self, offsets: Int64s) -> Int64s:
        """Return for records that begin at `offsets`, rising, their numbers in their sources, from 1."""
        first, which = [run.start for run in self.runs], self.runs_of(offsets)
        numbers = np.searchsorted(self.starts, offsets) - np.searchsorted(self.starts, first)[which]
        return numbers + np.array([run.record for run in self.runs], np.int64)[which]

    def counts_of(self, offsets: Int64s) -> list[int]:
        """Return how many of the records that begin at `offsets`, rising, each run has."""
        bounds = np.searchsorted(offsets, [*(run.start for run in self.runs), len(self.data) + 1])
        return [int(count) for count in np.diff(bounds)]

    def first(self, count: int) -> XmlChunk:
        """Return the chunk with its first records only."""
        if count >= len(self.starts):
            return self
        stop = int(self.starts[count])
        runs = tuple(run for run in self.runs if run.start < stop)
        return XmlChunk(self.data[:stop], self.starts[:count], runs, self.context, self.prefixes)


@dataclass(slots=True)
class ChunkCollector:
    """Collects pieces, of one source after another, until they make a chunk.

    Attributes:
        chunk_bytes: So many bytes make one.
    """

    chunk_bytes: int
    _pieces: list[bytes] = field(default_factory=list)
    _starts: list[Any] = field(default_factory=list)
    _runs: list[RecordRun] = field(default_factory=list)
    _context: Context = field(default_factory=Context)
    _size: int = 0
    _weight: int = 0

    def add(
        self, piece: Piece, source: int, name: str, prefixes: Prefixes, weight: int | None = None
    ) -> Iterator[XmlChunk]:
        """Take in a piece; yield the chunks that are full before or with it.

        Args:
            piece: Records of one run.
            source: The number of their source, from 0.
            name: Its name.
            prefixes: Knows the prefix of each namespace.
            weight: The bytes they come to when they are worked on, if more than they have.
        """
        if self._pieces and piece.context != self._context:
            yield from self.finish(prefixes)
        self._context = piece.context
        self._runs.append(
            RecordRun(
                self._size,
                source,
                name,
                piece.byte_offset,
                piece.line,
                piece.document,
                piece.record,
                piece.above,
                piece.way,
                piece.ordinal,
                piece.enclosing,
                piece.outline,
            )
        )
        self._starts.append(np.array(piece.starts, np.int64) + self._size)
        self._pieces += [piece.data, b"\n"]
        self._size += len(piece.data) + 1
        self._weight += len(piece.data) if weight is None else weight
        if self._weight >= self.chunk_bytes:
            yield from self.finish(prefixes)

    def finish(self, prefixes: Prefixes) -> Iterator[XmlChunk]:
        """Yield what is left as a chunk."""
        if self._pieces:
            starts = np.concatenate(self._starts)
            known = prefixes.by_namespace()
            yield XmlChunk(b"".join(self._pieces), starts, tuple(self._runs), self._context, known)
        self._pieces, self._starts, self._runs, self._size, self._weight = [], [], [], 0, 0


def element_names(chunk: XmlChunk, offsets: Int64s) -> list[str]:
    """Return the names of the records that begin at `offsets`, with the prefixes that paths have."""
    around = dict(chunk.context.namespaces)
    alike = _tag_of_all(chunk, offsets)
    if alike is not None:
        return [_named(alike, around, chunk)] * len(offsets)
    known: dict[bytes, str] = {}
    names = []
    for offset in offsets.tolist():
        found = TOKEN.match(chunk.data, offset)
        assert found is not None
        tag, attributes = found["start"], found["attributes"]
        if b"xmlns" in attributes:
            names.append(_named(tag, around | dict(declarations_in(attributes)), chunk))
            continue
        if tag not in known:
            known[tag] = _named(tag, around, chunk)
        names.append(known[tag])
    return names


def _tag_of_all(chunk: XmlChunk, offsets: Int64s) -> bytes | None:
    """Return the tag of all records, where they have one and none can mean another name by it; else None."""
    first = TOKEN.match(chunk.data, int(offsets[0])) if len(offsets) else None
    if first is None or b"xmlns" in chunk.data:
        return None
    tag = first["start"]
    data = np.frombuffer(chunk.data, np.uint8)
    # Every record has at least its name, the angle brackets and a slash.
    letters = data[offsets[:, None] + np.arange(1, len(tag) + 2)]
    is_tag = (letters[:, :-1] == np.frombuffer(tag, np.uint8)).all(axis=1)
    return tag if bool((is_tag & np.isin(letters[:, -1], _ENDS)).all()) else None


def _named(tag: bytes, namespaces: dict[str, str], chunk: XmlChunk) -> str:
    prefix, _, local = tag.decode("utf-8", "replace").rpartition(":")
    shown = chunk.prefixes.get(namespaces.get(prefix, ""))
    return f"{shown}:{local}" if shown else local
