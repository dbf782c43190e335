"""Archives: every member of a zip or tar file is a source of its own, named `calls.zip/day_1/a.json`.

Nothing is ever written to disk under a member's name. What comes out of an archive meets the limits that
other compressed data meets; an archive inside an archive is opened too, one inside that is not.
"""

from __future__ import annotations

import io
import shutil
import tarfile
import tempfile
import zipfile
import zlib
from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager, ExitStack, contextmanager
from dataclasses import dataclass
from typing import BinaryIO, cast
from weakref import finalize

from tessaron.core.base.errors import Code, DataError, Place, SourceError
from tessaron.sources.forms.encodings import Readable, bounded, unpacked
from tessaron.sources.forms.endings import ARCHIVE_ENDINGS

_ZIP_MAGIC = (b"PK\x03\x04", b"PK\x05\x06")
HEAD_BYTES = 64 * 1024
"""So many of the first bytes of a file, at most, tell whether it is an archive."""
_TAR_BLOCK, _TAR_MAGIC_AT, _TAR_MAGIC = 512, 257, b"ustar"
_SPOOLED_BYTES = 16 * 1024 * 1024
_LOCKED = 1
"""The flag of a member of a zip file that is encrypted."""

Open = Callable[[], AbstractContextManager[BinaryIO]]
"""Opens the bytes of an archive from where they begin; those can be sought in."""


@dataclass(frozen=True, slots=True)
class Member:
    """A file in an archive.

    Attributes:
        name: Its name in it, with that of the inner archive in front if it stands in one.
        size: Its bytes, once they are out.
        open: Opens it.
    """

    name: str
    size: int
    open: Open


def begins_archive(name: str, head: bytes) -> bool:
    """Say whether the first bytes of a file, packed or not, are those of an archive."""
    return _kind_of(name, io.BytesIO(head)) != ""


def is_archive(name: str, opened: Open) -> bool:
    """Say whether a file is an archive, by what it begins with.

    Raises:
        SourceError: When it cannot be read.
    """
    with opened() as stream:
        return _kind_of(name, stream) != ""


def members_of(name: str, opened: Open) -> list[Member]:
    """Return the files in an archive, in its order, with those of archives in it.

    Args:
        name: What it is called in messages.
        opened: Opens it.

    Raises:
        SourceError: When it cannot be read, or is locked.
        DataError: When it is broken.
    """
    return list(_members_of(name, opened, may_nest=True))


def _kind_of(name: str, stream: BinaryIO) -> str:
    """Return `zip`, `tar` or nothing, by what a stream begins with."""
    head = stream.read(len(_ZIP_MAGIC[0]))
    if head in _ZIP_MAGIC:
        return "zip"
    stream.seek(0)
    try:
        block = unpacked(name, stream).read_all(_TAR_BLOCK)
    except DataError:
        return ""
    return "tar" if block[_TAR_MAGIC_AT:].startswith(_TAR_MAGIC) else ""


def _members_of(name: str, opened: Open, may_nest: bool) -> Iterator[Member]:
    with opened() as stream:
        kind = _kind_of(name, stream)
    found = _zip_members(name, opened) if kind == "zip" else _tar_members(name, opened)
    for member in found:
        if not member.name.lower().endswith(ARCHIVE_ENDINGS):
            yield member
        elif may_nest:
            yield from _inside(name, member)


def _inside(name: str, outer: Member) -> Iterator[Member]:
    opened = _Kept(outer.open)
    for member in _members_of(f"{name}/{outer.name}", opened, may_nest=False):
        yield Member(f"{outer.name}/{member.name}", member.size, member.open)


class _Kept:
    """Opens the bytes of an inner archive, kept in a temporary file so that they can be sought in."""

    def __init__(self, opened: Open):
        self._opened = opened
        self._file: BinaryIO | None = None

    @contextmanager
    def __call__(self) -> Iterator[BinaryIO]:
        if self._file is None:
            kept = tempfile.SpooledTemporaryFile(_SPOOLED_BYTES)  # noqa: SIM115
            with self._opened() as stream:
                shutil.copyfileobj(stream, kept)
            self._file = cast("BinaryIO", kept)
            finalize(self, kept.close)
        self._file.seek(0)
        yield self._file


def kept_bytes(stream: Readable) -> Open:
    """Return what opens the bytes of a stream that can be read only once."""

    @contextmanager
    def once() -> Iterator[BinaryIO]:
        yield cast("BinaryIO", stream)

    return _Kept(once)


# ---- zip ------------------------------------------------------------------------------------------------


def _zip_members(name: str, opened: Open) -> Iterator[Member]:
    with _broken_is_told(name), opened() as stream, zipfile.ZipFile(stream) as archive:
        listed = archive.infolist()
    for info in listed:
        if info.is_dir():
            continue
        if info.flag_bits & _LOCKED:
            raise SourceError(f"{name}/{info.filename}: is encrypted; unpack it first")
        yield Member(info.filename, info.file_size, _zip_opener(name, opened, info))


def _zip_opener(name: str, opened: Open, info: zipfile.ZipInfo) -> Open:
    @contextmanager
    def open_member() -> Iterator[BinaryIO]:
        shown = f"{name}/{info.filename}"
        with (
            _broken_is_told(shown),
            opened() as stream,
            zipfile.ZipFile(stream) as archive,
            archive.open(info) as member,
        ):
            yield cast("BinaryIO", bounded(shown, cast("Readable", member), info.compress_size))

    return open_member


# ---- tar ------------------------------------------------------------------------------------------------


def _tar_members(name: str, opened: Open) -> Iterator[Member]:
    reader = _TarReader(name, opened)
    for number, info in enumerate(reader.listed()):
        if info.isreg():
            yield Member(info.name.removeprefix("./"), info.size, reader.opener(number))


class _TarReader:
    """Reads the members of a tar file in their order in one go, however it is packed."""

    def __init__(self, name: str, opened: Open):
        self._name, self._opened = name, opened
        self._open = ExitStack()
        self._archive: tarfile.TarFile | None = None
        self._next = 0
        finalize(self, self._open.close)

    def listed(self) -> list[tarfile.TarInfo]:
        """Return all members, files or not."""
        with (
            _broken_is_told(self._name),
            self._opened() as stream,
            tarfile.open(fileobj=_tar_stream(self._name, stream), mode="r|") as archive,
        ):
            return list(archive)

    def opener(self, number: int) -> Open:
        """Return what opens the member of a number."""

        @contextmanager
        def open_member() -> Iterator[BinaryIO]:
            with _broken_is_told(self._name):
                yield self._at(number)

        return open_member

    def _at(self, number: int) -> BinaryIO:
        if self._archive is None or number < self._next:
            self._begin()
        assert self._archive is not None
        info = None
        while self._next <= number:
            info = self._archive.next()
            self._next += 1
        if info is None:
            raise SourceError(f"{self._name}: changed while it was read")
        return cast("BinaryIO", self._archive.extractfile(info))

    def _begin(self) -> None:
        self._open.close()
        stream = self._open.enter_context(self._opened())
        archive = tarfile.open(fileobj=_tar_stream(self._name, stream), mode="r|")  # noqa: SIM115
        self._archive = self._open.enter_context(archive)
        self._next = 0


def _tar_stream(name: str, stream: BinaryIO) -> BinaryIO:
    return cast("BinaryIO", unpacked(name, stream))


@contextmanager
def _broken_is_told(name: str) -> Iterator[None]:
    """Say of what is no archive, or breaks off, that it is so."""
    try:
        yield
    except (zipfile.BadZipFile, tarfile.TarError, zlib.error, EOFError) as error:
        reason = f"the archive is broken or cut off ({error}); fetch the file again"
        raise DataError(reason, Place(name), Code.COMPRESSION) from error
    except (NotImplementedError, RuntimeError) as error:
        raise SourceError(f"{name}: cannot be unpacked: {error}; unpack it first") from error
