"""The stand-in harbour office: what a web API of Brackwater answers, well and badly."""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from functools import cache

from tessaron.sources.demo.manifests import MANIFESTS_HEAD, iter_manifests
from tessaron.sources.demo.vessel_calls import call_line, iter_calls

OFFICE_CALLS = 230
OFFICE_TOKEN = "low-tide"
_PAGE = 50
_MANIFESTS = 40
_HTML = b"<!DOCTYPE html><html><head><title>Harbour office: please sign in</title></head></html>"


@dataclass(frozen=True, slots=True)
class Question:
    """What the office is asked.

    Attributes:
        parameters: The parameters of the address.
        authorization: The header of that name; empty if there is none.
        turn: How often the same was asked, this time included.
    """

    parameters: Mapping[str, str]
    authorization: str = ""
    turn: int = 1

    def number(self, name: str, default: int) -> int:
        """Return a parameter that is a number, and at least 0."""
        text = self.parameters.get(name, "")
        return int(text) if text.isdecimal() else default


@dataclass(frozen=True, slots=True)
class Reply:
    """What it answers; `is_broken`: only half of it arrives."""

    body: bytes
    status: int = 200
    headers: Mapping[str, str] = field(default_factory=dict)
    is_broken: bool = False


def reply(path: str, question: Question) -> Reply:
    """Return the answer to a question."""
    if path not in ADDRESSES:
        return _json({"error": f"nothing at {path}", "addresses": sorted(ADDRESSES)}, 404)
    return ADDRESSES[path][1](question)


def _json(value: object, status: int = 200, headers: Mapping[str, str] | None = None) -> Reply:
    return Reply(json.dumps(value, ensure_ascii=False).encode(), status, headers or {})


@cache
def _lines() -> tuple[str, ...]:
    return tuple(map(call_line, iter_calls(OFFICE_CALLS)))


def _page(begin: int, size: int) -> str:
    return f"[{','.join(_lines()[begin : begin + size])}]"


def _envelope(calls: str, **words: object) -> Reply:
    said = json.dumps(words)[1:-1]
    return Reply(f'{{{said}{", " if said else ""}"calls": {calls}}}'.encode())


def _start(question: Question) -> Reply:
    return _json({"office": "harbour office of Brackwater", "addresses": list(ADDRESSES)})


def _linked(question: Question) -> Reply:
    page = question.number("page", 1)
    begin = _PAGE * (page - 1)
    more = begin + _PAGE < OFFICE_CALLS
    return Reply(
        _page(begin, _PAGE).encode(),
        headers={"Link": f'</calls?page={page + 1}>; rel="next"'} if more else {},
    )


def _with_next(question: Question) -> Reply:
    page = question.number("page", 1)
    more = _PAGE * page < OFFICE_CALLS
    following = f"/calls/next?page={page + 1}" if more else None
    return _envelope(_page(_PAGE * (page - 1), _PAGE), page=page, next=following)


def _with_cursor(question: Question) -> Reply:
    begin = question.number("after", 0)
    more = begin + _PAGE < OFFICE_CALLS
    return _envelope(_page(begin, _PAGE), meta={"cursor": str(begin + _PAGE) if more else None})


def _numbered(question: Question) -> Reply:
    size = min(question.number("size", _PAGE), 100)
    return _envelope(_page(size * (max(question.number("page", 1), 1) - 1), size), total=OFFICE_CALLS)


def _from_offset(question: Question) -> Reply:
    return _envelope(_page(question.number("from", 0), min(question.number("limit", _PAGE), 100)))


def _signed(question: Question) -> Reply:
    if question.authorization != f"Bearer {OFFICE_TOKEN}":
        return _json({"error": "sign in"}, 401)
    return Reply(_page(0, OFFICE_CALLS).encode())


def _limited(question: Question) -> Reply:
    if question.turn % 2:
        return _json({"error": "not so fast"}, 429, {"Retry-After": "1"})
    return Reply(_page(0, OFFICE_CALLS).encode())


def _broken(question: Question) -> Reply:
    return Reply(_page(0, OFFICE_CALLS).encode(), is_broken=question.turn % 2 == 1)


def _html(question: Question) -> Reply:
    return Reply(_HTML, headers={"Content-Type": "text/html"})


def _manifests(question: Question) -> Reply:
    text = "".join((MANIFESTS_HEAD, *iter_manifests(_MANIFESTS), "</manifests>\n"))
    return Reply(text.encode(), headers={"Content-Type": "application/xml"})


ADDRESSES: dict[str, tuple[str, Callable[[Question], Reply]]] = {
    "/": ("these addresses", _start),
    "/calls": ("vessel calls, 50 a page, the next in a Link header", _linked),
    "/calls/next": ("the same, its address in the answer", _with_next),
    "/calls/cursor": ("the same, by a cursor", _with_cursor),
    "/calls/number": ("the same, by page and size; the answer says the total", _numbered),
    "/calls/offset": ("the same, by from and limit", _from_offset),
    "/calls/signed": ("all calls, for who has the token", _signed),
    "/calls/limited": ("all calls, every second time; else 429, too fast", _limited),
    "/calls/broken": ("all calls, every second time; else half of the answer", _broken),
    "/calls/html": ("a page of HTML in the place of calls", _html),
    "/manifests": ("cargo manifests as XML", _manifests),
}
"""What stands where, and what answers."""

FEEDS = {
    "next": 'pages = { kind = "next", path = "$.next" }',
    "cursor": 'pages = { kind = "cursor", path = "$.meta.cursor", parameter = "after" }',
    "number": '[pages]\nkind = "number"\nparameter = "page"\nsize = 100\nsize_parameter = "size"\n'
    'total = "$.total"',
    "offset": 'pages = { kind = "offset", parameter = "from" }',
    "signed": 'sign_in = { kind = "bearer", secret = "env:OFFICE_TOKEN" }',
}
"""What a feed file says beside the address, for those below `/calls` that need one."""
