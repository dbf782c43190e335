"""Bringing the documents of a web API into a folder, as they are, with a receipt."""

from __future__ import annotations

import json
import shutil
import time
from dataclasses import asdict, dataclass, replace
from datetime import UTC, datetime
from pathlib import Path

from tessaron._version import __version__
from tessaron.core.base.errors import UsageError
from tessaron.sinks.target_folder import TargetFolder, sha256_of
from tessaron.sources.forms.endings import FETCH_RECEIPT
from tessaron.sources.web.api_feed import ApiFeed, OpenFeed


@dataclass(frozen=True, slots=True)
class FetchedFile:
    """One document: its file, its bytes, and their SHA-256 in hexadecimal digits."""

    file: str
    bytes: int
    sha256: str


@dataclass(frozen=True, slots=True)
class Fetched:
    """What was brought in.

    Attributes:
        version: Version of Tessaron.
        started: When the run began: ISO 8601, UTC.
        seconds: How long it took.
        source: The address, without what could be secret.
        target: The folder.
        documents: The documents, in the order of the pages.
        notes: What was found out about the source.
        mark: How far the run came; None where the feed does not ask.
    """

    version: str
    started: str
    seconds: float
    source: str
    target: str
    documents: tuple[FetchedFile, ...]
    notes: tuple[str, ...] = ()
    mark: str | int | None = None

    @property
    def byte_count(self) -> int:
        """Bytes of all documents."""
        return sum(each.bytes for each in self.documents)

    def to_json(self) -> str:
        """Return it as JSON, a document to a line."""
        text = json.dumps({**asdict(self), "documents": None}, ensure_ascii=False, indent=2)
        lines = ",\n    ".join(json.dumps(asdict(each), ensure_ascii=False) for each in self.documents)
        return text.replace('"documents": null', f'"documents": [\n    {lines}\n  ]') + "\n"


def fetch(
    source: ApiFeed | str | Path, target: str | Path, *, replace: bool = False, sync: bool = True
) -> Fetched:
    """Bring what a web API answers into a folder, a file for each page; details are put in.

    Args:
        source: A feed, the path of a feed file, or an address.
        target: The folder; it appears whole or not at all. What came of a run that is broken off is kept in a
            hidden folder beside it, without secrets, and the next run goes on after it.
        replace: Whether a folder that was fetched before may be replaced.
        sync: Whether all of it is on the disk itself when this returns.

    Returns:
        The receipt, which also stands in the folder as `fetch.receipt`.

    Raises:
        SourceError: When the API does not answer as it ought to.
        TargetError: When the target cannot be written, or is not empty and `replace` is false.
        UsageError: When the feed cannot be right.
    """
    feed = source if isinstance(source, ApiFeed) else ApiFeed.read(source)
    folder = Path(target)
    kept = folder.absolute().parent / f".{folder.name}.answers"
    started, clock = datetime.now(UTC), time.perf_counter()
    with TargetFolder(folder, replace, sync, _files_of) as written:
        opened = (feed if feed.keep_answers or feed.from_answers else _kept_in(feed, kept)).open()
        documents = tuple(_written(opened, written.aside))
        fetched = Fetched(
            __version__,
            started.isoformat(timespec="seconds"),
            round(time.perf_counter() - clock, 3),
            opened.pages.name,
            str(target),
            documents,
            tuple(filter(None, (opened.pages.said,))),
            opened.pages.mark,
        )
        (written.aside / FETCH_RECEIPT).write_text(fetched.to_json(), "utf-8")
        written.commit()
    shutil.rmtree(kept, ignore_errors=True)
    opened.finish()
    return fetched


def _kept_in(feed: ApiFeed, folder: Path) -> ApiFeed:
    """Return a feed whose answers are kept in a folder; those of another one that are there go."""
    from tessaron.sources.web.kept_answers import KeptAnswers

    try:
        KeptAnswers(folder, feed.part, is_live=True) if folder.exists() else None
    except UsageError:
        shutil.rmtree(folder, ignore_errors=True)
    return replace(feed, keep_answers=folder)


def _written(opened: OpenFeed, folder: Path) -> list[FetchedFile]:
    """Write the documents, each to a file of its own; return what was written."""
    found = []
    for number, pieces in enumerate(opened.documents(), 1):
        head = next(pieces, b"")
        name = f"{number:05}{'.xml' if head.lstrip()[:1] == b'<' else '.json'}"
        path = folder / name
        with path.open("wb") as stream:
            stream.write(head)
            stream.writelines(pieces)
        found.append(FetchedFile(name, path.stat().st_size, sha256_of(path)))
    return found


def _files_of(folder: Path) -> set[str]:
    """Return the names of the files that a fetch wrote into a folder."""
    try:
        receipt = json.loads((folder / FETCH_RECEIPT).read_text("utf-8"))
        return {FETCH_RECEIPT, *(str(each["file"]) for each in receipt["documents"])}
    except (OSError, ValueError, KeyError, TypeError):
        return set()
