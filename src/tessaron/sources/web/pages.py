"""The pages of a web API, one after another, as one stream of documents."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from concurrent.futures import ThreadPoolExecutor
from hashlib import blake2b
from urllib.parse import urlsplit

from tessaron.core.base.errors import SourceError
from tessaron.core.base.parsed_values import Parsed
from tessaron.core.base.paths import ELEMENT, format_path, step_of_name
from tessaron.sources.web.answer_documents import JsonDocument, XmlDocument, all_of, document_of, first_of
from tessaron.sources.web.answers import Answer, joined, told_of
from tessaron.sources.web.details import Details
from tessaron.sources.web.feed_model import FeedPart
from tessaron.sources.web.foreseen import Foreseen, foreseen
from tessaron.sources.web.high_water import HighWater, Mark
from tessaron.sources.web.kept_answers import KeptAnswers
from tessaron.sources.web.requests import Asker
from tessaron.sources.web.secret_values import shown
from tessaron.sources.web.session import Asked

_ROUND = (10, 20, 25, 30, 50, 100, 200, 250, 500, 1000)
"""So many records are a page, rather than all there are."""
_SAYS_HOW = "[pages] in a feed file says how they follow"
_FEW = 5
"""An object with more members beside an array of records is more than a word about these."""
_BEGINS_JSON = (b"{", b"[")
Document = JsonDocument | XmlDocument | None


class Pages:
    """Asks for page after page.

    Args:
        feed: What is asked.
        kept: Where answers are kept, or come from; None for neither.
        mark: How far the last run came; None for a first one.

    Attributes:
        records: Where the records stand in each answer, as JSONPath, or as XPath for XML; None where each
            answer is as it is.
        said: What was found out by the first answer, in words.
        is_complete: Whether all pages have been taken.
        ended: Why they ended otherwise than by their last, in words; empty if they did not.
    """

    def __init__(self, feed: FeedPart, kept: KeptAnswers | None = None, mark: Mark | None = None):
        self._feed, self._kept = feed, kept
        self._asker = Asker(feed, kept, mark)
        self._first = self._asker.ask(self._page(0, 0, None))
        document = _document_of(self._first)
        self.records = feed.records or self._elements() or _records_in(document)
        gone_on = "" if kept is None or not kept.is_live or not kept.count else _gone_on(kept)
        self.said = "; ".join([*filter(None, (gone_on,)), *self._lacking(document), *self._doubts(document)])
        self._high = None if feed.mark is None else HighWater(feed.mark.path, mark)
        self.is_complete = False
        self.ended = ""

    @property
    def name(self) -> str:
        """What it is called: its address, without what could be secret."""
        return shown(self._feed.url)

    @property
    def title(self) -> str:
        """The word for the records: the last of the address."""
        names = [part for part in urlsplit(self._feed.url).path.split("/") if part and "{" not in part]
        return names[-1].partition(".")[0] if names else "records"

    @property
    def mark(self) -> Mark | None:
        """How far this run came; None where that is not asked for."""
        return None if self._high is None else self._high.largest

    def __iter__(self) -> Iterator[bytes]:
        """Yield the answers, each a document, in order; one of JSON ends with a line break."""
        for pieces in self.documents():
            head = next(pieces, b"")
            yield head
            yield from pieces
            if head.lstrip()[:1] in _BEGINS_JSON:
                yield b"\n"

    def documents(self) -> Iterator[Iterator[bytes]]:
        """Yield the pieces of each answer, in order.

        Raises:
            SourceError: When one fails, or there is no end to them.
        """
        coming = self._coming()
        with foreseen(self._asker.ask, coming, self._feed.pages.at_once) as pages:
            if self._feed.each is None:
                yield from self._pages(pages, None)
            else:
                with ThreadPoolExecutor(self._feed.each.at_once, "tessaron-details") as pool:
                    yield from self._pages(pages, Details(self._feed.each, self._asker.ask, pool))
        self.is_complete = True
        if self._kept is not None:
            self._kept.complete()

    def _pages(self, pages: Foreseen, details: Details | None) -> Iterator[Iterator[bytes]]:
        answer, count, taken = self._first, 1, 0
        asked = {_key(self._page(0, 0, None))}
        before = b""
        while True:
            document = self._known(answer)
            here = self._count(document)
            if self._is_counted() and count > 1:
                if not here:
                    break
                self._check_new(answer, before, count)
            before = blake2b(answer.head).digest()
            # Before details change the document:
            following = self._next(answer, document, count, taken + here)
            total = self._total(answer, document)
            self._see(document)
            if details is None or document is None:
                yield _pieces(answer)
            else:
                yield iter((details.put_into(document, self.records),))
            taken += here
            if following is None:
                break
            if _key(following) in asked:
                self.ended = f"page {count:,} leads back to one that was there before; the pages end with it"
                break
            if count == self._feed.pages.most:
                said = f"more than {count:,} pages; set most under [pages] higher"
                raise SourceError(f"{self.name}: {said}")
            asked.add(_key(following))
            answer = pages.answer(following)
            count += 1
        if total is not None and taken < total:
            came = f"{count:,} pages" if count > 1 else "1 page"
            said = f"{taken:,} records came in {came}, the answers tell of {total:,}"
            raise SourceError(f"{self.name}: {said}; do all pages follow?")

    def _coming(self) -> Iterator[Asked]:
        """Yield what will be asked if all pages are as long as the first, where that tells the total."""
        if not self._is_counted():
            return
        document = _document_of(self._first)
        total, here = self._total(self._first, document), self._count(document)
        if total is not None and here:
            for count in range(1, min(-(-total // here), self._feed.pages.most)):
                yield self._page(count, count * here, None)

    def _known(self, answer: Answer) -> Document:
        """Return an answer parsed, as far as it says which page follows, or is changed.

        Raises:
            SourceError: When it is too long for a page, or no document where it ought to be one.
        """
        pages = self._feed.pages
        is_read = self._feed.each is not None or self._feed.mark is not None
        is_page = is_read or pages.kind != "links" or answer.following is not None
        if is_page and answer.rest is not None:
            raise SourceError(f"{shown(answer.url)}: a page longer than 16 MiB; ask for smaller pages")
        if pages.kind == "links" and pages.total is None and pages.total_header is None and not is_read:
            return None
        document = _document_of(answer)
        if document is None and is_page:
            said = "expected a document of JSON or XML, as it is to be read for what it says"
            raise SourceError(f"{shown(answer.url)}: {said}")
        return document

    def _check_new(self, answer: Answer, before: bytes, count: int) -> None:
        if blake2b(answer.head).digest() == before:
            said = f"page {count} is the same as the one before; does it know {self._feed.pages.parameter}?"
            raise SourceError(f"{self.name}: {said}")

    def _see(self, document: Document) -> None:
        """Take in how far the records of a page come."""
        if self._high is not None and self._feed.mark is not None and document is not None:
            self._high.see(all_of(document.each_record(self.records), self._feed.mark.path))

    def _elements(self) -> str | None:
        """Return where the records stand in answers that are arrays and follow each other."""
        has_more = self._feed.pages.kind != "links" or self._first.following is not None
        is_array = self._first.head.lstrip()[:1] == b"["
        return format_path((ELEMENT,)) if has_more and is_array else None

    def _is_counted(self) -> bool:
        return self._feed.pages.kind in ("number", "offset")

    def _next(self, answer: Answer, document: Document, count: int, taken: int) -> Asked | None:
        """Return what is asked for next; None at the end."""
        pages = self._feed.pages
        total = self._total(answer, document)
        if total is not None and taken >= total:
            return None
        if pages.kind == "links":
            return self._at(joined(answer.url, answer.following)) if answer.following else None
        if self._is_counted():
            return self._page(count, taken, None) if taken else None
        found = _said(answer, document, pages.header, pages.path)
        if found in (None, "", False):
            return None
        if pages.kind == "next":
            return self._at(joined(answer.url, str(found)))
        return self._page(count, taken, str(found))

    def _total(self, answer: Answer, document: Document) -> int | None:
        """Return how many records an answer says there are; None where it does not."""
        pages = self._feed.pages
        return _whole(_said(answer, document, pages.total_header, pages.total))

    def _at(self, url: str) -> Asked:
        """Return what is asked at an address that says all."""
        return Asked(self._feed.model_copy(update={"parameters": {}}), url=url)

    def _page(self, count: int, taken: int, cursor: str | None) -> Asked:
        return Asked(self._feed, template=self._feed.url, parameters=self._parameters(count, taken, cursor))

    def _parameters(self, count: int, taken: int, cursor: str | None) -> Mapping[str, str | int]:
        """Return what a request has beside what the feed file says: where its page begins."""
        pages = self._feed.pages
        found: dict[str, str | int] = {}
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

    def _count(self, document: Document) -> int:
        """Return how many records stand in an answer."""
        return 0 if document is None else document.count(self.records)

    def _lacking(self, document: Document) -> Iterator[str]:
        """Yield that the first answer has no total where the feed says it is, so that none is held to it."""
        where = self._feed.pages.total_header or self._feed.pages.total
        if where is not None and self._total(self._first, document) is None:
            yield f"the first answer has no number of records at {where}: nothing tells whether all have come"

    def _doubts(self, document: Document) -> Iterator[str]:
        """Yield what makes one think that the first answer is a first page only, where no pages follow."""
        if self._feed.pages.kind != "links" or self._first.following:
            return
        here = self._count(document)
        words = dict(_words_of(document.value)) if isinstance(document, JsonDocument) else {}
        totals = [
            value for path, value in words.items() if "total" in path[-1].lower() and type(value) is int
        ]
        totals += [int(value) for name, value in self._first.headers.items() if _is_total(name, value)]
        following = next((path for path, value in words.items() if _leads_on(path[-1], value)), None)
        if following is not None:
            form = _paging_for(format_path(tuple(map(step_of_name, following))), words[following])
            name = ".".join(following)
            yield f"only the first page, it seems: {name} names another; in a feed file: {form}"
        elif any(total > here for total in totals):
            yield f"only the first page, it seems: {here:,} records of {max(totals):,}; {_SAYS_HOW}"
        elif here in _ROUND:
            yield f"exactly {here} records: this looks like a first page; {_SAYS_HOW}"


def _gone_on(kept: KeptAnswers) -> str:
    answers = f"{kept.count:,} answers" if kept.count > 1 else "1 answer"
    return f"goes on after a run that was broken off: {answers} kept in {kept.folder}"


def _said(answer: Answer, document: Document, header: str | None, path: str | None) -> Parsed:
    """Return what stands in a header of an answer, or at a path in it."""
    return first_of(document, path) if header is None else answer.headers.get(header.lower())


def _whole(value: Parsed) -> int | None:
    """Return a number of records; None for what is none."""
    if isinstance(value, str) and value.strip().isdecimal():
        return int(value)
    return value if type(value) is int else None


def _pieces(answer: Answer) -> Iterator[bytes]:
    """Yield an answer."""
    yield answer.head
    if answer.rest is not None:
        with told_of(answer.url):
            yield from answer.rest


def _key(asked: Asked) -> tuple[str, tuple[tuple[str, str], ...]]:
    """Return what makes two pages the same."""
    parameters = tuple(sorted((name, str(value)) for name, value in asked.parameters.items()))
    return asked.url or asked.template, parameters


def _words_of(document: Parsed) -> Iterator[tuple[tuple[str, ...], Parsed]]:
    """Yield what an answer says beside its records: its members, and those of objects in it."""
    if isinstance(document, dict):
        for name, value in document.items():
            yield (name,), value
            if isinstance(value, dict):
                yield from (((name, inner), below) for inner, below in value.items())


def _is_total(name: str, value: str) -> bool:
    """Say whether a header tells how many records there are."""
    return "total" in name and value.strip().isdecimal() and "page" not in name


def _leads_on(name: str, value: Parsed) -> bool:
    return any(word in name.lower() for word in ("next", "cursor")) and type(value) is str and value != ""


def _paging_for(path: str, value: str) -> str:
    """Return how a feed file says that pages follow by what stands at a path."""
    where = json.dumps(path, ensure_ascii=False)  # which is a TOML string, too
    if any(sign in value for sign in "/?"):
        return f'pages = {{ kind = "next", path = {where} }}'
    return f'pages = {{ kind = "cursor", path = {where}, parameter = "…" }}'


def _document_of(answer: Answer) -> Document:
    """Return an answer as a document; None for what is not one, or is too long for a page."""
    return None if answer.rest is not None else document_of(answer.head)


def _records_in(document: Document) -> str | None:
    """Return where the records stand in an answer that has one array of objects beside a few other things."""
    if not isinstance(document, JsonDocument) or not isinstance(document.value, dict):
        return None
    members = document.value
    lists = [name for name, value in members.items() if isinstance(value, list)]
    wide = [value for value in members.values() if isinstance(value, dict) and len(value) > _FEW]
    if len(lists) != 1 or wide or not all(isinstance(each, dict) for each in members[lists[0]]):
        return None
    return format_path((step_of_name(lists[0]), ELEMENT))
