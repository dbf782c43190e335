"""A web API as people say it in Python, and what is read of it."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from tessaron.core.base.errors import UsageError

if TYPE_CHECKING:
    from tessaron.sources.web.feed_model import FeedPart

FEED_ENDING, MARK_ENDING = ".feed.toml", ".feed.mark"


@dataclass(frozen=True, slots=True)
class ApiFeed:
    """A web API as a source.

    Attributes:
        part: What is asked, as a feed file says it.
        keep_answers: A folder in which answers are kept, without secrets; a run that was broken off goes on
            with them. None for not.
        from_answers: A folder of such answers to run from, without a network. None for not.
        mark_file: Where it stands how far the last run came, if the feed has a mark.
        so_far: How far it came, where that stands elsewhere.
    """

    part: FeedPart
    keep_answers: Path | None = None
    from_answers: Path | None = None
    mark_file: Path | None = None
    so_far: str | int | None = None

    def __post_init__(self) -> None:
        if self.keep_answers is not None and self.from_answers is not None:
            raise UsageError("answers are either kept or run from, not both")

    @classmethod
    def of(
        cls, url: str, *, keep_answers: str | Path | None = None, from_answers: str | Path | None = None,
        mark_file: str | Path | None = None, **keys: Any,
    ) -> ApiFeed:  # fmt: skip
        """Return the feed of an address.

        Args:
            url: What is asked.
            keep_answers: See the attributes, as the others.
            from_answers: See the attributes.
            mark_file: See the attributes.
            **keys: What a feed file says, by its keys: `records="$.calls[*]"`, `pages={"kind": "links"}`.

        Raises:
            UsageError: When something in it cannot be right.
        """
        from pydantic import ValidationError

        from tessaron.sources.web.feed_checks import faults_of
        from tessaron.sources.web.feed_file import feed_of_address
        from tessaron.sources.web.feed_model import FeedPart

        try:
            part = FeedPart.model_validate({"url": url, **keys}) if keys else feed_of_address(url)
        except ValidationError as error:
            said = "; ".join(
                f"{'.'.join(map(str, found['loc']))}: {found['msg'].removeprefix('Value error, ')}"
                for found in error.errors(include_url=False)
            )
            raise UsageError(f"feed: {said}") from None
        if keys and (faults := list(faults_of(part))):
            raise UsageError("feed: " + "; ".join(f"{'.'.join(where)}: {said}" for where, said in faults))
        return cls(part, _path(keep_answers), _path(from_answers), _path(mark_file))

    @classmethod
    def read(
        cls, path: str | Path, *, keep_answers: str | Path | None = None,
        from_answers: str | Path | None = None,
    ) -> ApiFeed:  # fmt: skip
        """Return the feed of a file, or of an address.

        Raises:
            SourceError: When the file cannot be read.
            UsageError: With all that is wrong in it.
        """
        from tessaron.sources.web.feed_file import feed_of_address, read_feed

        keep, run_from = _path(keep_answers), _path(from_answers)
        if str(path).startswith(("http://", "https://")):
            return cls(feed_of_address(str(path)), keep, run_from)
        file = Path(path)
        if not file.name.lower().endswith(FEED_ENDING):
            said = f"expected an address, or a feed file whose name ends in {FEED_ENDING}"
            raise UsageError(f"{file}: {said}")
        mark_file = file.with_name(file.name[: -len(FEED_ENDING)] + MARK_ENDING)
        return cls(read_feed(file), keep, run_from, mark_file)

    def open(self) -> OpenFeed:
        """Begin to ask; see `OpenFeed`."""
        return OpenFeed(self)


class OpenFeed:
    """A feed that is being read.

    Args:
        feed: The feed.

    Attributes:
        pages: Its answers.
    """

    def __init__(self, feed: ApiFeed):
        from tessaron.sources.web.high_water import read_mark
        from tessaron.sources.web.kept_answers import KeptAnswers
        from tessaron.sources.web.pages import Pages

        self._feed = feed
        folder = feed.keep_answers or feed.from_answers
        is_live = feed.from_answers is None
        kept = None if folder is None else KeptAnswers(folder, feed.part, is_live)
        so_far = feed.so_far
        if so_far is None and is_live and feed.part.mark is not None and feed.mark_file is not None:
            so_far = read_mark(feed.mark_file)
        self.pages = Pages(feed.part, kept, so_far)

    def __iter__(self) -> Iterator[bytes]:
        """Yield the answers, each a document, in order."""
        return iter(self.pages)

    def documents(self) -> Iterator[Iterator[bytes]]:
        """Yield the pieces of each document; they are to be taken before the next."""
        return self.pages.documents()

    def mark(self) -> str | int | None:
        """Return how far the records came, once all are there; None where nothing tells it."""
        return self.pages.mark if self.pages.is_complete else None

    def finish(self) -> None:
        """Keep how far the run came, once all that was made of it stands where it belongs."""
        from tessaron.sources.web.high_water import write_mark

        mark, file = self.pages.mark, self._feed.mark_file
        if self._feed.from_answers is None and self.pages.is_complete and mark is not None and file:
            write_mark(file, mark)


def _path(given: str | Path | None) -> Path | None:
    return None if given is None else Path(given)
