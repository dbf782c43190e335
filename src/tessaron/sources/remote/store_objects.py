"""Objects of a store as sources: listed, read in ranges a few at once, and tried again where that breaks."""

from __future__ import annotations

import io
from collections import deque
from collections.abc import Iterator, Mapping, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import AbstractContextManager, contextmanager, nullcontext
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, BinaryIO, cast

from tessaron.core.base.errors import SourceError
from tessaron.sources.forms.addresses import without_user
from tessaron.sources.forms.document_choice import choose_documents, natural_order
from tessaron.sources.forms.endings import ARCHIVE_ENDINGS, TABULAR_ENDINGS
from tessaron.sources.forms.store_place import StorePlace
from tessaron.sources.remote.store_urls import (
    ONE_CALL_EACH,
    file_system_of,
    name_in,
    scheme_of,
    told,
    url_of,
)

if TYPE_CHECKING:
    from fsspec import AbstractFileSystem

RANGE_BYTES = 4 * 1024 * 1024
"""So much is asked for at once."""
_AT_ONCE, _CONNECTIONS, _ATTEMPTS = 8, 3, 5
"""So many ranges, or small objects, are under way; so often each is tried."""
_GLOB = "*?["


@dataclass(frozen=True, slots=True)
class StoreObject:
    """An object of a store.

    Attributes:
        url: Its URL, without user and password.
        size: Its bytes, as listed.
        stamp: What tells it from what it was before, as the store says: its ETag, or when it was changed.
        listing: What it was listed with.
        number: Its place there.
    """

    url: str
    size: int
    stamp: str
    listing: StoreListing
    number: int

    def open(self) -> AbstractContextManager[BinaryIO]:
        """Return its bytes, from where they begin."""
        return self.listing.open(self.number)

    def changed(self) -> str:
        """Return how the object is no longer what it was when it was listed; empty if it is."""
        return self.listing.changed(self.number)

    def place(self) -> StorePlace:
        """Return where it stands, as another process opens it."""
        return self.listing.place(self.number)


class StoreListing:
    """What stands at a URL.

    Args:
        url: The URL of an object, of a place with some below it, or a pattern.
        known: The bytes of each object by its path, where these are known and need not be listed.

    Attributes:
        said: What was passed over, in words.

    Raises:
        SourceError: When nothing is there, or the store cannot be reached.
        UsageError: When what the store needs is not installed.
    """

    def __init__(self, url: str, known: Mapping[str, int] | None = None):
        self._url = url
        self._first_system, root = file_system_of(url)
        self._is_shared = scheme_of(url) not in ONE_CALL_EACH
        self._at_once = _AT_ONCE if self._is_shared else _CONNECTIONS
        found: _Listed = {path: {"size": size} for path, size in (known or {}).items()}
        is_place = False
        if known is None:
            with told(url):
                found, is_place = _found(self._system, root, url)
        self.said = ""
        paths = list(found)
        if is_place:
            # As in a folder: archives among the documents are read by themselves.
            archives = [path for path in paths if path.lower().endswith(ARCHIVE_ENDINGS)]
            documents: list[str] = []
            if not archives or len(archives) < len(paths):
                paths = [path for path in paths if path not in set(archives)]
                documents, self.said = choose_documents(
                    without_user(url), paths, lambda path: name_in(path, root), "place"
                )
            paths = [*documents, *archives]
        self._paths = paths
        self._sizes = [int(found[path]["size"] or 0) for path in paths]
        self._stamps = [_stamp_of(found[path]) for path in paths]
        self._coming: deque[tuple[int, Future[bytes]]] = deque()
        self._pool: ThreadPoolExecutor | None = None

    @property
    def _system(self) -> AbstractFileSystem:
        """The file system: of this thread, where one connection cannot serve several."""
        return self._first_system if self._is_shared else file_system_of(self._url)[0]

    @property
    def objects(self) -> list[StoreObject]:
        """The objects, in the order of their names."""
        urls = [without_user(url_of(self._url, path)) for path in self._paths]
        return [
            StoreObject(url, self._sizes[number], self._stamps[number], self, number)
            for number, url in enumerate(urls)
        ]

    def open(self, number: int) -> AbstractContextManager[BinaryIO]:
        """Return the bytes of an object; small ones behind it are asked for meanwhile."""
        path, size = self._paths[number], self._sizes[number]
        if path.lower().endswith((*ARCHIVE_ENDINGS, *TABULAR_ENDINGS)):
            # These are not read from the beginning to the end.
            return self._opened(path)
        if size > RANGE_BYTES:
            return self._ranges(path, size)
        return nullcontext(io.BytesIO(self._small(number)))

    def changed(self, number: int) -> str:
        """Return how an object is no longer what it was when it was listed; empty if it is.

        One that was read at once was whole: it is not asked for.
        """
        if self._sizes[number] <= RANGE_BYTES:
            return ""
        try:
            size = int(self._system.info(self._paths[number])["size"])
        except FileNotFoundError:
            return "the object vanished while it was read"
        except Exception:
            # It could be read; what is asked in addition need not be answered.
            return ""
        known = self._sizes[number]
        return (
            ""
            if size == known
            else f"the object changed while it was read: {known:,} bytes at first, {size:,} at the end"
        )

    def place(self, number: int) -> StorePlace:
        """Return where an object stands."""
        return StorePlace(self._url, self._paths[number], self._sizes[number])

    def open_at(self, number: int, offset: int) -> AbstractContextManager[BinaryIO]:
        """Return the bytes of an object from an offset on."""
        return self._ranges(self._paths[number], self._sizes[number], offset)

    def _threads(self) -> ThreadPoolExecutor:
        self._pool = self._pool or ThreadPoolExecutor(self._at_once, "tessaron-store")
        return self._pool

    def _small(self, number: int) -> bytes:
        while self._coming and self._coming[0][0] != number:
            self._coming.popleft()[1].cancel()
        after = self._coming[-1][0] + 1 if self._coming else number
        for other in range(after, min(number + self._at_once, len(self._paths))):
            if self._sizes[other] > RANGE_BYTES:
                break
            self._coming.append((other, self._threads().submit(self._whole, other)))
        return self._coming.popleft()[1].result()

    def _whole(self, number: int) -> bytes:
        return self._part(self._paths[number], 0, self._sizes[number])

    def _part(self, path: str, start: int, stop: int) -> bytes:
        """Return a range of an object, tried again where that breaks."""
        from tenacity import Retrying, retry_if_exception, stop_after_attempt, wait_random_exponential

        attempts = Retrying(
            stop=stop_after_attempt(_ATTEMPTS),
            retry=retry_if_exception(
                lambda error: not isinstance(error, (FileNotFoundError, PermissionError))
            ),
            wait=wait_random_exponential(multiplier=0.2, max=20),
            reraise=True,
        )
        with told(url_of(self._url, path)):
            if start == stop:
                return b""
            return attempts(self._asked, path, start, stop)

    def _asked(self, path: str, start: int, stop: int) -> bytes:
        data = _bytes_of(self._system, path, start, stop)
        if len(data) < stop - start:
            raise OSError(f"broke off: {len(data):,} bytes of {stop - start:,} came")
        return data

    @contextmanager
    def _ranges(self, path: str, size: int, begin: int = 0) -> Iterator[BinaryIO]:
        from tessaron.core.lines.row_records import LineStream

        yield cast("BinaryIO", LineStream(self._in_ranges(path, size, begin)))

    def _in_ranges(self, path: str, size: int, begin: int = 0) -> Iterator[bytes]:
        """Yield an object in ranges, from an offset on; after the first a few are under way at once."""
        starts = iter(range(begin + RANGE_BYTES, size, RANGE_BYTES))
        yield self._part(path, begin, min(begin + RANGE_BYTES, size))
        waiting: deque[Future[bytes]] = deque()
        try:
            while True:
                while len(waiting) < self._at_once and (start := next(starts, None)) is not None:
                    stop = min(start + RANGE_BYTES, size)
                    waiting.append(self._threads().submit(self._part, path, start, stop))
                if not waiting:
                    return
                yield waiting.popleft().result()
        finally:
            for future in waiting:
                future.cancel()

    @contextmanager
    def _opened(self, path: str) -> Iterator[BinaryIO]:
        with told(url_of(self._url, path)), self._system.open(path, "rb") as stream:
            yield cast("BinaryIO", stream)


def _bytes_of(system: AbstractFileSystem, path: str, start: int, stop: int) -> bytes:
    """Return a range of an object."""
    if "sftp" not in system.protocol:
        return bytes(system.cat_file(path, start=start, end=stop))
    # SFTP gives 32 KiB a request: they are all made before the first is answered.
    with system.open(path, "rb") as stream:
        return b"".join(stream.readv([(start, stop - start)]))


_Listed = dict[str, dict[str, Any]]
"""What a store says of each object, by its path."""


def _found(system: AbstractFileSystem, root: str, url: str) -> tuple[_Listed, bool]:
    """Return the objects at a place, and whether some of them may be no documents."""
    if any(letter in root for letter in _GLOB):
        found = system.glob(root, detail=True)
        files = {path: each for path, each in found.items() if each["type"] == "file"}
        if not files:
            raise SourceError(f"{without_user(url)}: no object matches this pattern")
        return dict(sorted(files.items(), key=lambda item: natural_order(item[0]))), False
    path = root.rstrip("/")
    if scheme_of(url) in ONE_CALL_EACH and (known := system.info(path or "/"))["type"] == "file":
        # These say of a file that it is a folder, or nothing of its size, when they list what is in it.
        return {path: known}, False
    found = system.find(root, detail=True)
    if path in found:
        return {path: found[path]}, False
    if not found:
        raise SourceError(f"{without_user(url)}: is not there, and nothing is below it; check the name")
    return dict(found), True


def _stamp_of(listed: Mapping[str, Any]) -> str:
    names = ("ETag", "etag", "md5Hash", "content_md5", "LastModified", "last_modified", "mtime", "modify")
    return next((str(listed[name]) for name in names if listed.get(name)), "")


def objects_at(url: str) -> tuple[Sequence[StoreObject], str]:
    """Return the objects at a URL that are documents, and words about what was passed over."""
    listing = StoreListing(url)
    return listing.objects, listing.said


def opened_place(place: StorePlace) -> StoreListing:
    """Return the listing of one object that another process has listed; its number there is 0."""
    return StoreListing(place.url, {place.path: place.size})
