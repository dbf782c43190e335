"""Sources that go on where the last run stopped: feeds with a mark, and databases with a column for one."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from os import PathLike
from typing import Any

from tessaron.core.base.errors import UsageError
from tessaron.sources.database.database_query import DatabaseQuery
from tessaron.sources.forms.document_choice import NoDocumentsError
from tessaron.sources.inputs import Input
from tessaron.sources.resolving import Source, resolve_inputs
from tessaron.sources.web.api_feed import FEED_ENDING, ApiFeed

Mark = str | int


@dataclass(frozen=True, slots=True)
class NamedInput:
    """An input with the name by which the ledger knows its mark; empty for a file."""

    mark_name: str
    source: Input


def named_inputs(source: Source, mark_of: Callable[[str], Mark | None], again: bool) -> list[NamedInput]:
    """Return the inputs of a source, those with marks from there on.

    Args:
        source: As in `load`.
        mark_of: Returns how far the source of a name came; None for one that is new.
        again: Whether rows that are just as far as a mark are read again.

    Raises:
        SourceError: When a source is not there.
        UsageError: When a feed or database has no mark.
    """
    items = source if isinstance(source, (list, tuple)) else [source]
    return [found for item in items for found in _named(item, mark_of, again)]


def _named(item: Any, mark_of: Callable[[str], Mark | None], again: bool) -> Iterator[NamedInput]:
    name = ""
    if isinstance(item, DatabaseQuery):
        if item.mark is None:
            raise UsageError("a ledger needs a column that says what is new in a database: --mark COLUMN")
        from tessaron.sources.database.engines import shown_url

        name = f"{shown_url(item.url)} {item.table or item.text} by {item.mark}"
        item = replace(item, so_far=mark_of(name), again=again)
    elif (feed := _feed_of(item)) is not None:
        if feed.part.mark is None:
            raise UsageError(
                f"{feed.part.url}: a ledger needs a feed that says what is new: [mark] in a feed file"
            )
        name = feed.part.url
        item = replace(feed, so_far=mark_of(name), mark_file=None)
    try:
        inputs = resolve_inputs(item)
    except NoDocumentsError:
        # Nothing has come yet, or it has another name until it is whole.
        return
    for found in inputs:
        yield NamedInput(name, found)


def _feed_of(item: object) -> ApiFeed | None:
    if isinstance(item, ApiFeed):
        return item
    if not isinstance(item, (str, PathLike)):
        return None
    text = str(item)
    is_feed = text.startswith(("http://", "https://")) or text.lower().endswith(FEED_ENDING)
    return ApiFeed.read(text) if is_feed else None
