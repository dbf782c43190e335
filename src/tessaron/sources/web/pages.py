"""The pages of a web API, one after another, as one stream of documents."""

from __future__ import annotations

import json
from collections.abc import Iterator
from hashlib import blake2b
from itertools import islice
from urllib.parse import urlsplit

from tessaron.core.base.errors import SourceError
from tessaron.core.base.parsed_values import Parsed
from tessaron.core.base.paths import ELEMENT, format_path, step_of_name
from tessaron.core.cutting.separator import Separator
from tessaron.core.kernel.contract import KernelOptions
from tessaron.core.kernel.record_reader import RecordReader
from tessaron.core.query.jsonpath import parse_path
from tessaron.sources.web.feed_model import FeedPart
from tessaron.sources.web.foreseen import Asked, Foreseen, foreseen
from tessaron.sources.web.requests import Answer, Asker, joined, shown, told_of

_ROUND = (10, 20, 25, 30, 50, 100, 200, 250, 500, 1000)
"""So many records are a page, rather than all there are."""
_SAYS_HOW = "a feed file says how pages follow"
_FEW = 5
"""An object with more members beside an array of records is more than a word about these."""
_BEGINS_JSON = (b"{", b"[")


class Pages:
    """Asks for page after page.

    Args:
        feed: What is asked.

    Attributes:
        records: Where the records stand in each answer, as JSONPath; None where each answer is as it is.
        said: What was found out by the first answer, in words.
    """

    def __init__(self, feed: FeedPart):
        self._feed, self._asker = feed, Asker(feed)
        self._first = self._asker.ask(feed.url, self._parameters(0, 0, None))
        document = _document_of(self._first)
        self.records = feed.records or self._elements() or _records_in(document)
        self.said = "; ".join(self._doubts(document))

    @property
    def name(self) -> str:
        """What it is called: its address, without what could be secret."""
        return shown(self._feed.url)

    @property
    def title(self) -> str:
        """The word for the records: the last of the address."""
        names = [part for part in urlsplit(self._feed.url).path.split("/") if part]
        return names[-1].partition(".")[0] if names else "records"

    def __iter__(self) -> Iterator[bytes]:
        """Yield the answers, each a document, in order.

        Raises:
            SourceError: When one fails, or there is no end to them.
        """
        coming = self._coming()
        with foreseen(self._asker.ask, coming, self._feed.pages.at_once) as pages:
            yield from self._pages(pages)

    def _pages(self, pages: Foreseen) -> Iterator[bytes]:
        answer, count, taken = self._first, 1, 0
        asked = {_key((self._feed.url, self._parameters(0, 0, None)))}
        before = b""
        while True:
            document = self._known(answer)
            here = self._count(document)
            if self._is_counted() and count > 1:
                if not here:
                    break
                self._check_new(answer, before, count)
            before = blake2b(answer.head).digest()
            yield from _pieces(answer)
            taken += here
            following = self._next(answer, document, count, taken)
            if following is None or _key(following) in asked:
                break
            if count == self._feed.pages.most:
                said = f"more than {count:,} pages; set most under [pages] higher"
                raise SourceError(f"{self.name}: {said}")
            asked.add(_key(following))
            answer = pages.answer(following)
            count += 1
        total = _one(document, self._feed.pages.total)
        if isinstance(total, int) and taken < total:
            said = f"{taken:,} records came in {count:,} pages, the answers tell of {total:,}"
            raise SourceError(f"{self.name}: {said}; do all pages follow?")

    def _coming(self) -> Iterator[Asked]:
        """Yield what will be asked if all pages are as long as the first, where that tells the total."""
        if not self._is_counted():
            return
        document = _document_of(self._first)
        total, here = _one(document, self._feed.pages.total), self._count(document)
        if isinstance(total, int) and here:
            for count in range(1, min(-(-total // here), self._feed.pages.most)):
                yield self._feed.url, self._parameters(count, count * here, None)

    def _known(self, answer: Answer) -> Parsed:
        """Return an answer parsed, as far as it says which page follows.

        Raises:
            SourceError: When it is too long for a page, or no JSON document where it ought to be one.
        """
        pages = self._feed.pages
        is_page = pages.kind != "links" or answer.following is not None
        if is_page and answer.rest is not None:
            raise SourceError(f"{shown(answer.url)}: a page longer than 16 MiB; ask for smaller pages")
        if pages.kind == "links" and pages.total is None:
            return None
        document = _document_of(answer)
        if document is None and is_page:
            said = (
                f"expected a JSON document, as pages follow by {pages.kind}; by Link headers others may too"
            )
            raise SourceError(f"{shown(answer.url)}: {said}")
        return document

    def _check_new(self, answer: Answer, before: bytes, count: int) -> None:
        if blake2b(answer.head).digest() == before:
            said = f"page {count} is the same as the one before; does it know {self._feed.pages.parameter}?"
            raise SourceError(f"{self.name}: {said}")

    def _elements(self) -> str | None:
        """Return where the records stand in answers that are arrays and follow each other."""
        has_more = self._feed.pages.kind != "links" or self._first.following is not None
        is_array = self._first.head.lstrip()[:1] == b"["
        return format_path((ELEMENT,)) if has_more and is_array else None

    def _is_counted(self) -> bool:
        return self._feed.pages.kind in ("number", "offset")

    def _next(self, answer: Answer, document: Parsed, count: int, taken: int) -> Asked | None:
        """Return what is asked for next: the address and its parameters; None at the end."""
        pages = self._feed.pages
        total = _one(document, pages.total)
        if isinstance(total, int) and taken >= total:
            return None
        if pages.kind == "links":
            return (joined(answer.url, answer.following), {}) if answer.following else None
        if self._is_counted():
            return (self._feed.url, self._parameters(count, taken, None)) if taken else None
        found = _one(document, pages.path)
        if found in (None, "", False):
            return None
        if pages.kind == "next":
            return joined(answer.url, str(found)), {}
        return self._feed.url, self._parameters(count, taken, str(found))

    def _parameters(self, count: int, taken: int, cursor: str | None) -> dict[str, str | int]:
        pages = self._feed.pages
        found = dict(self._feed.parameters)
        if pages.size is not None and pages.size_parameter is not None:
            found[pages.size_parameter] = pages.size
        if pages.parameter is None:
            return found
        if pages.kind == "number":
            found[pages.parameter] = pages.first + count
        elif pages.kind == "offset":
            found[pages.parameter] = taken
        elif cursor is not None:
            found[pages.parameter] = cursor
        return found

    def _count(self, document: Parsed) -> int:
        """Return how many records stand in an answer."""
        if self.records is None:
            return len(document) if isinstance(document, list) else int(document is not None)
        return sum(1 for _ in parse_path(self.records).find(document))

    def _doubts(self, document: Parsed) -> Iterator[str]:
        """Yield what makes one think that the first answer is a first page only, where no pages follow."""
        if self._feed.pages.kind != "links" or self._first.following:
            return
        here = self._count(document)
        words = dict(_words_of(document))
        totals = [
            value for path, value in words.items() if "total" in path[-1].lower() and type(value) is int
        ]
        following = next((path for path, value in words.items() if _leads_on(path[-1], value)), None)
        if following is not None:
            form = _paging_for(format_path(tuple(map(step_of_name, following))), words[following])
            name = ".".join(following)
            yield f"only the first page, it seems: {name} names another; in a feed file: {form}"
        elif any(total > here for total in totals):
            yield f"only the first page, it seems: {here:,} records of {max(totals):,}; {_SAYS_HOW}"
        elif here in _ROUND:
            yield f"exactly {here} records: this looks like a first page; {_SAYS_HOW}"


def _pieces(answer: Answer) -> Iterator[bytes]:
    """Yield an answer; one that is JSON ends with a line break."""
    yield answer.head
    if answer.rest is not None:
        with told_of(answer.url):
            yield from answer.rest
    if answer.head.lstrip()[:1] in _BEGINS_JSON:
        yield b"\n"


def _key(asked: Asked) -> tuple[str, tuple[tuple[str, str], ...]]:
    """Return what makes two requests the same."""
    url, parameters = asked
    return url, tuple(sorted((name, str(value)) for name, value in parameters.items()))


def _words_of(document: Parsed) -> Iterator[tuple[tuple[str, ...], Parsed]]:
    """Yield what an answer says beside its records: its members, and those of objects in it."""
    if isinstance(document, dict):
        for name, value in document.items():
            yield (name,), value
            if isinstance(value, dict):
                yield from (((name, inner), below) for inner, below in value.items())


def _leads_on(name: str, value: Parsed) -> bool:
    return any(word in name.lower() for word in ("next", "cursor")) and type(value) is str and value != ""


def _paging_for(path: str, value: str) -> str:
    """Return how a feed file says that pages follow by what stands at a path."""
    where = json.dumps(path, ensure_ascii=False)  # which is a TOML string, too
    if any(sign in value for sign in "/?"):
        return f'pages = {{ kind = "next", path = {where} }}'
    return f'pages = {{ kind = "cursor", path = {where}, parameter = "…" }}'


def _document_of(answer: Answer) -> Parsed:
    """Return an answer as parsed JSON; None for what is not one document, or is too long for a page."""
    if answer.rest is not None:
        return None
    reader = RecordReader(answer.head, Separator.NOTHING, False, KernelOptions())
    records = list(islice(reader, 2))
    return records[0].value if len(records) == 1 and not reader.faults else None


def _records_in(document: Parsed) -> str | None:
    """Return where the records stand in an answer that has one array of objects beside a few other things."""
    if not isinstance(document, dict):
        return None
    lists = [name for name, value in document.items() if isinstance(value, list)]
    wide = [value for value in document.values() if isinstance(value, dict) and len(value) > _FEW]
    if len(lists) != 1 or wide or not all(isinstance(each, dict) for each in document[lists[0]]):
        return None
    return format_path((step_of_name(lists[0]), ELEMENT))


def _one(document: Parsed, path: str | None) -> Parsed:
    """Return the first of what a path matches."""
    if path is None or document is None:
        return None
    found = next(iter(parse_path(path).find(document)), None)
    return None if found is None else found.value
