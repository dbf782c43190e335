"""What of some sources is new, has changed, or is known: by size and time first, then by their bytes."""

from __future__ import annotations

import hashlib
import os
import time
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from functools import cache

from tessaron.core.base.errors import SourceError, UsageError
from tessaron.repeat.ledgers.ledger import Entry, Ledger
from tessaron.repeat.ledgers.marked_sources import NamedInput
from tessaron.sources.inputs import ByteInput, Input

_READ_AT_ONCE = 4 * 1024 * 1024
_GONE_SHOWN = 5


@dataclass(frozen=True, slots=True)
class Delivery:
    """One source that is to be loaded.

    Attributes:
        entry: What the ledger is to say of it.
        source: What is read.
        is_changed: Whether it was loaded before, with other bytes.
    """

    entry: Entry
    source: Input
    is_changed: bool = False


@dataclass
class Deliveries:
    """Sources, by what the ledger knows of them.

    Attributes:
        new: Those to be loaded.
        known: Those that are loaded, and are what they were.
        changed: Those that were loaded, and are other ones now.
        same: Those with the bytes of another one that is loaded, with the name of that.
        twins: Those with the bytes of another one that is new: only once that is loaded, they need not be.
        aside: How many were put aside before, and are what they were.
        waiting: How many were changed so lately that they may not be whole.
        touched: Entries of those whose time alone has changed.
        gone: How many are loaded and no longer there.
        gone_first: Some of these.
    """

    new: list[Delivery] = field(default_factory=list)
    known: list[Delivery] = field(default_factory=list)
    changed: list[Delivery] = field(default_factory=list)
    same: list[Entry] = field(default_factory=list)
    twins: list[Entry] = field(default_factory=list)
    aside: int = 0
    waiting: int = 0
    touched: list[Entry] = field(default_factory=list)
    gone: int = 0
    gone_first: list[str] = field(default_factory=list)


def sorted_deliveries(inputs: Sequence[NamedInput], ledger: Ledger, settle: float = 0.0) -> Deliveries:
    """Return inputs sorted by what the ledger knows of them.

    Args:
        inputs: The sources.
        ledger: The ledger.
        settle: As in `Keeping`.

    Raises:
        SourceError: When a source cannot be read.
        UsageError: When a source has no name by which it can be known again.
    """
    found = Deliveries()
    named = [(each.mark_name or full_name(each.source), each) for each in inputs]
    known = ledger.known([name for name, _ in named])
    unknown: list[Delivery] = []
    for name, each in named:
        source = each.source
        assert isinstance(source, ByteInput)
        before = known.get(name)
        if each.mark_name:
            # How far it came stands beside: each time it is read on from there.
            found.new.append(Delivery(Entry(name, -1, "", ""), source))
            continue
        size, stamp = _size_and_stamp(source)
        if before is not None and (before.size, before.stamp) == (size, stamp) and stamp:
            found.aside += before.state == "aside"
            found.known += [Delivery(before, source)] * (before.state != "aside")
            continue
        if settle and source.modified is not None and time.time() - source.modified / 1e9 < settle:
            found.waiting += 1
            continue
        entry = Entry(name, size, stamp, _digest_of(source))
        if before is None or (before.state != "loaded" and before.digest != entry.digest):
            unknown.append(Delivery(entry, source))
        elif before.digest == entry.digest:
            found.touched.append(replace(before, size=size, stamp=stamp))
            found.aside += before.state == "aside"
            found.known += [Delivery(found.touched[-1], source)] * (before.state != "aside")
        else:
            found.changed.append(Delivery(entry, source, is_changed=True))
    _sort_unknown(unknown, ledger, found)
    names = (name for name, _ in named)
    found.gone, found.gone_first = ledger.names_but(names, len(known), _GONE_SHOWN)
    return found


def _sort_unknown(unknown: list[Delivery], ledger: Ledger, found: Deliveries) -> None:
    """Tell those whose bytes are known, under whatever name, from those that are new."""
    loaded = ledger.with_digests(each.entry.digest for each in unknown)
    first: dict[str, str] = {}
    for each in unknown:
        entry = each.entry
        if entry.digest in loaded:
            found.same.append(replace(entry, state="same", said=loaded[entry.digest].source))
        elif first.setdefault(entry.digest, entry.source) == entry.source:
            found.new.append(each)
        else:
            found.twins.append(replace(entry, state="same", said=first[entry.digest]))


def still_is(delivery: Delivery) -> bool:
    """Say whether a file is what it was when it was looked at."""
    source = delivery.source
    if not isinstance(source, ByteInput) or source.path is None:
        return True
    try:
        return _size_and_stamp(source, again=True) == (delivery.entry.size, delivery.entry.stamp)
    except SourceError:
        return False


def full_name(source: Input) -> str:
    """Return the name by which a source is known again, wherever the next run is started.

    Raises:
        UsageError: When it has none.
    """
    if not isinstance(source, ByteInput) or source.stream is not None:
        raise UsageError(
            f"{source.name}: a ledger needs sources that can be known again: files, folders, archives, "
            "stores, a feed with a mark, or a database with --mark COLUMN"
        )
    if "://" in source.name:
        return source.name
    folder, name = os.path.split(source.name)
    return os.path.join(_whole_folder(os.getcwd(), folder), name)


@cache
def _whole_folder(here: str, folder: str) -> str:
    return os.path.normpath(os.path.join(here, folder))


def _size_and_stamp(source: ByteInput, again: bool = False) -> tuple[int, str]:
    """Return what tells, without reading it, whether a source is what it was.

    Args:
        source: The source.
        again: Whether that may have changed since it was found.
    """
    if source.size is not None and source.modified is not None and not again:
        return source.size, str(source.modified)
    path = source.path or _file_above(source.name)
    if path is None:
        return source.size or 0, source.stamp
    try:
        found = os.stat(path)
    except OSError as error:
        raise SourceError(f"{source.name}: cannot be read: {error.strerror}") from error
    # Of what stands in an archive the archive tells.
    return found.st_size, f"{found.st_mtime_ns}:{found.st_ino}" if source.path is None else str(
        found.st_mtime_ns
    )


def _file_above(name: str) -> str | None:
    """Return the file that a member of an archive stands in; None for what is not here."""
    if "://" in name:
        return None
    while name and not os.path.isfile(name):
        above = os.path.dirname(name)
        name = "" if above == name else above
    return name or None


def _digest_of(source: ByteInput) -> str:
    digest = hashlib.blake2b(digest_size=32)
    opened = open(source.path, "rb") if source.path is not None else source.open()  # noqa: SIM115
    try:
        with opened as stream:
            while data := stream.read(_READ_AT_ONCE):
                digest.update(data)
    except OSError as error:
        raise SourceError(f"{source.name}: cannot be read: {error.strerror or error}") from error
    return digest.hexdigest()
