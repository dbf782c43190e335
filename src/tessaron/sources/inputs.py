"""What is read: bytes, from wherever they come, or objects that are records already."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager, nullcontext
from dataclasses import dataclass
from typing import Any, BinaryIO, cast

from tessaron.core.base.errors import SourceError, UsageError
from tessaron.core.base.naming import name_of_sources
from tessaron.sources.archives import Open
from tessaron.sources.forms.store_place import StorePlace
from tessaron.sources.spans import Span


@dataclass(frozen=True, slots=True)
class ByteInput:
    """A source of bytes.

    Attributes:
        name: What it is called in messages and in the receipt.
        size: Bytes in it, if known beforehand.
        path: The file, if it is one.
        modified: When that was changed, in nanoseconds since 1970; None where that was not asked.
        stream: The open file or the bytes, if they were given.
        opener: Opens it, where it stands in an archive, or is a table.
        said: What was found out about it before it is read, in words.
        title: The word for its records, where its name does not say it.
        records: Where its records stand, as JSONPath or XPath, if that is known beforehand.
        after: Returns what was found out while it was read, in words.
        stamp: What tells it from what it was before, where it is no file here, such as an ETag.
        mark: Returns how far it was read, where the next run can go on behind that; None where it cannot.
        span: The span of the file that is read: whole lines of JSON Lines, unpacked by what opens it.
        store: Where it stands in an object store, if it does.
        finished: Is to be called once all that was made of it stands where it belongs.
    """

    name: str
    size: int | None = None
    path: str | None = None
    stream: BinaryIO | None = None
    opener: Open | None = None
    said: str = ""
    title: str = ""
    records: str | None = None
    finished: Callable[[], None] | None = None
    after: Callable[[], str] | None = None
    modified: int | None = None
    stamp: str = ""
    mark: Callable[[], str | int | None] | None = None
    span: Span | None = None
    store: StorePlace | None = None

    def changed(self) -> str:
        """Return how the file is no longer what it was when it was found; empty if it is, or is none."""
        if self.path is None or self.size is None:
            return ""
        try:
            size = os.stat(self.path).st_size
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
        if self.opener is not None:
            return self.opener()
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


def known_records(inputs: list[Input]) -> str | None:
    """Return where the records stand, where the sources know it beforehand.

    Raises:
        UsageError: When they do not know the same.
    """
    known = {entry.records: entry.name for entry in inputs if isinstance(entry, ByteInput)}
    if not any(known):
        return None
    if len(known) > 1:
        places = "; ".join(f"{name}: {path or 'not known'}" for path, name in known.items())
        raise UsageError(f"records stand at different places ({places}); say which: --records PATH")
    return next(iter(known))


def name_of_inputs(inputs: list[Input]) -> str:
    """Return the word for the records of some inputs, by what these are called."""
    titles = {entry.title for entry in inputs if isinstance(entry, ByteInput)}
    if len(titles) == 1 and (title := titles.pop()):
        return title
    # Beside each other they have one folder: what that is called is asked once.
    folder = os.getcwd()
    found = [
        os.path.join(folder, entry.name)
        for entry in inputs
        if isinstance(entry, ByteInput) and (entry.path is not None or entry.opener is not None)
    ]
    return name_of_sources(found) if found and len(found) == len(inputs) else "records"
