"""Records made of tables as one digest each: the other side of what verify compares."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import ExitStack
from dataclasses import replace

import numpy as np

from tessaron.core.base.arrays import ArrowArray
from tessaron.core.base.errors import DataError, Place
from tessaron.core.cutting.separator import Separator
from tessaron.core.kernel import choose_kernel
from tessaron.core.kernel.contract import KernelOptions
from tessaron.core.rebuild.record_digests import Words
from tessaron.core.rebuild.tape_digests import digests_of
from tessaron.decide.layout_options import with_layout
from tessaron.engine.options import Options
from tessaron.engine.run_progress import NoProgress
from tessaron.prove.document_pieces import xml_documents
from tessaron.prove.keyed_tables import KeyedTables
from tessaron.prove.source_digests import Digests, SourceDigests
from tessaron.sources.inputs import ByteInput, Input


class TableDigests:
    """Makes the records of a folder's tables again and gives their digests.

    Args:
        tables: The tables.
        exact: As in `record_digests`.
        options: How documents are read again.
        wanted: As in `DigestWork`.
    """

    def __init__(
        self, tables: KeyedTables, exact: bool, options: Options, wanted: frozenset[int] = frozenset()
    ):
        self._tables, self._exact, self._options, self._wanted = tables, exact, options, wanted
        self._around: list[int] = []

    def __iter__(self) -> Iterator[Digests]:
        return self._of_xml() if self._tables.is_xml else self._of_json()

    def around(self) -> list[int]:
        """Return the digests of the documents around the records; of XML once the records were taken."""
        if self._tables.is_xml:
            return self._around
        found: list[int] = []
        for _, texts in self._tables.around():
            found += self._digests(texts.to_pylist(), None).tolist()
        return found

    def _of_json(self) -> Iterator[Digests]:
        number = 1
        for rows, texts in self._tables.records():
            lines = texts.to_pylist()
            digests = self._digests(lines, self._tables.top.keys_of(rows))
            found = {}
            if self._wanted:
                chosen = np.isin(digests, np.array(list(self._wanted), np.uint64))
                found = {int(digests[at]): lines[at] for at in np.flatnonzero(chosen).tolist()}
            yield Digests("tables", number, digests, found)
            number += len(lines)
            if self._options.first is not None and number > self._options.first:
                return

    def _digests(self, lines: list[str], keys: ArrowArray) -> Words:
        options = KernelOptions(depth_limit=max(self._options.depth_limit, 100_000), tells_halves=self._exact)
        data = "\n".join(lines).encode()
        tape = choose_kernel(self._options.kernel)(data, Separator.LINE, False, options)
        if tape.faults or tape.record_count != len(lines):
            reason = tape.faults[0].reason if tape.faults else "records are not one a line"
            raise DataError(f"what was made of the tables is no JSON: {reason}", Place("tables"))
        return digests_of(tape, self._exact, keys)

    def _of_xml(self) -> Iterator[Digests]:
        """Read documents made of the tables as the source is read."""
        documents = xml_documents(self._tables, NoProgress())
        count = self._tables.document_count()
        if self._tables.way.around is None and len(self._tables.record_names()) == 1:
            count = sum(rows.num_rows for rows, _ in self._tables.records())
        inputs: list[Input] = [ByteInput("tables", stream=_NextDocument(documents)) for _ in range(count)]  # type: ignore[arg-type]
        # What is made of the tables has plain names, whichever path the records were found by.
        options = replace(
            with_layout(self._options, self._tables.compiled), records=self._tables.record_path(), xsd=None
        )
        with ExitStack() as stack:
            reader = SourceDigests(
                inputs,
                options,
                None,
                self._exact,
                NoProgress(),
                stack,
                self._wanted,
                self._tables.compared(),
            )
            yield from reader
            self._around = reader.around


class _NextDocument:
    """The next of some documents, as an open binary file."""

    def __init__(self, documents: Iterator[Iterator[tuple[str, int]]]):
        self._documents = documents
        self._pieces: Iterator[tuple[str, int]] | None = None
        self._left = b""

    def read(self, size: int = -1) -> bytes:
        """Return the next bytes, at most `size`; nothing at the end."""
        if self._pieces is None:
            self._pieces = next(self._documents, iter(()))
        while not self._left:
            piece = next(self._pieces, None)
            if piece is None:
                return b""
            self._left = piece[0].encode()
        taken, self._left = (self._left, b"") if size < 0 else (self._left[:size], self._left[size:])
        return taken
