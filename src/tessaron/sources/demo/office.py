"""The stand-in harbour office: what a web API of Brackwater answers, well and badly."""

from __future__ import annotations

import base64
import gzip
import json
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from functools import cache
from itertools import count
from threading import Lock

from tessaron.sources.demo.manifests import MANIFESTS_HEAD, iter_manifests
from tessaron.sources.demo.vessel_calls import call_line, iter_calls

OFFICE_CALLS = 230
OFFICE_TOKEN = "low-tide"
OFFICE_CLIENT, OFFICE_SECRET = "pilot-station", "fair-winds"
"""Who may log in, and with what."""
_USES = 3
"""A token of the office is good for so many answers."""
_PAGE = 50
_MANIFESTS, _FEW_MANIFESTS = 40, 15
_MOVES_OF = "/moves/"
_HTML = b"<!DOCTYPE html><html><head><title>Harbour office: please sign in</title></head></html>"


class Passes:
    """The tokens that the office has given out; each is good for a few answers."""

    def __init__(self) -> None:
        self._left: dict[str, int] = {}
        self._numbers, self._lock = count(1), Lock()

    def give(self) -> str:
        """Return a new token."""
        with self._lock:
            token = f"spring-tide-{next(self._numbers)}"
            self._left[token] = _USES
            return token

    def take(self, token: str) -> bool:
        """Say whether a token is good, for one answer more."""
        with self._lock:
            is_good = self._left.get(token, 0) > 0
            self._left[token] = self._left.get(token, 0) - 1
            return is_good


@dataclass(frozen=True, slots=True)
class Question:
    """What the office is asked.

    Attributes:
        parameters: The parameters of the address.
        authorization: The header of that name; empty if there is none.
        turn: How often the same was asked, this time included.
        sent: What was sent, as JSON or a form.
        passes: The tokens that are good.
        path: The address.
    """

    parameters: Mapping[str, str]
    authorization: str = ""
    turn: int = 1
    sent: Mapping[str, str] = field(default_factory=dict)
    passes: Passes = field(default_factory=Passes)
    path: str = ""

    def number(self, name: str, default: int) -> int:
        """Return a parameter that is a number, and at least 0."""
        text = self.parameters.get(name, "")
        return int(text) if text.isdecimal() else default


@dataclass(frozen=True, slots=True)
class Reply:
    """What it answers; `is_broken`: only half of it arrives; `seconds`: so late."""

    body: bytes
    status: int = 200
    headers: Mapping[str, str] = field(default_factory=dict)
    is_broken: bool = False
    seconds: float = 0


def reply(path: str, question: Question) -> Reply:
    """Return the answer to a question."""
    if path not in ADDRESSES and path.startswith(_MOVES_OF):
        return _moves(question)
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


def _login(question: Question) -> Reply:
    if (question.sent.get("user"), question.sent.get("password")) != (OFFICE_CLIENT, OFFICE_SECRET):
        return _json({"error": "unknown user"}, 403)
    return _json({"session": {"token": question.passes.give()}, "harbour": "brackwater"})


def _token(question: Question) -> Reply:
    """Answer as RFC 6749 says, section 4.4."""
    known = base64.b64encode(f"{OFFICE_CLIENT}:{OFFICE_SECRET}".encode()).decode()
    if question.authorization != f"Basic {known}":
        return _json({"error": "invalid_client"}, 401)
    return _json({"access_token": question.passes.give(), "token_type": "Bearer"})


def _private(question: Question) -> Reply:
    if not question.passes.take(question.authorization.removeprefix("Bearer ")):
        return _json({"error": "log in, or once more"}, 401)
    return _numbered(question)


def _brief(question: Question) -> Reply:
    calls = [json.loads(line) for line in _lines()[:_PAGE]]
    brief = [{"call_id": call["call_id"], "moves_at": f"{_MOVES_OF}{call['call_id']}"} for call in calls]
    return _json({"calls": brief})


def _moves(question: Question) -> Reply:
    wanted = question.path.removeprefix(_MOVES_OF)
    for call in map(json.loads, _lines()):
        if str(call["call_id"]) == wanted:
            stays = call["stays"]
            moves = [{"berth": stay["berth"], **move} for stay in stays for move in stay.get("moves") or ()]
            return _json({"call_id": call["call_id"], "moves": moves})
    return _json({"error": f"no call {wanted}"}, 404)


def _slow(question: Question) -> Reply:
    return Reply(_page(0, OFFICE_CALLS).encode(), seconds=1)


def _wrong(question: Question) -> Reply:
    return Reply(_page(0, OFFICE_CALLS).encode()[:-200])


def _packed(question: Question) -> Reply:
    return Reply(gzip.compress(_page(0, OFFICE_CALLS).encode()), headers={"Content-Encoding": "gzip"})


def _limited(question: Question) -> Reply:
    if question.turn % 2:
        return _json({"error": "not so fast"}, 429, {"Retry-After": "1"})
    return Reply(_page(0, OFFICE_CALLS).encode())


def _broken(question: Question) -> Reply:
    return Reply(_page(0, OFFICE_CALLS).encode(), is_broken=question.turn % 2 == 1)


def _html(question: Question) -> Reply:
    return Reply(_HTML, headers={"Content-Type": "text/html"})


def _manifests(question: Question) -> Reply:
    return _as_xml(*iter_manifests(_MANIFESTS))


def _manifest_pages(question: Question) -> Reply:
    page = max(question.number("page", 1), 1)
    manifests = list(iter_manifests(_MANIFESTS))[_FEW_MANIFESTS * (page - 1) : _FEW_MANIFESTS * page]
    return _as_xml(*manifests)


def _as_xml(*manifests: str) -> Reply:
    text = "".join((MANIFESTS_HEAD, *manifests, "</manifests>\n"))
    return Reply(text.encode(), headers={"Content-Type": "application/xml"})


ADDRESSES: dict[str, tuple[str, Callable[[Question], Reply]]] = {
    "/": ("these addresses", _start),
    "/calls": ("vessel calls, 50 a page, the next in a Link header", _linked),
    "/calls/next": ("the same, its address in the answer", _with_next),
    "/calls/cursor": ("the same, by a cursor", _with_cursor),
    "/calls/number": ("the same, by page and size; the answer says the total", _numbered),
    "/calls/offset": ("the same, by from and limit", _from_offset),
    "/calls/signed": ("all calls, for who has the token", _signed),
    "/login": ("a token for who posts user and password as JSON; it is good for three answers", _login),
    "/token": ("the same for a client of OAuth 2 (client credentials)", _token),
    "/calls/private": ("calls by page and size, for who has such a token", _private),
    "/calls/brief": ("50 calls, each with the address of its crane moves", _brief),
    "/moves/BRW-0000001": ("the crane moves of a call", _moves),
    "/calls/slow": ("all calls, a second late", _slow),
    "/calls/wrong": ("all calls, cut off in the midst", _wrong),
    "/calls/packed": ("all calls, packed with gzip", _packed),
    "/calls/limited": ("all calls, every second time; else 429, too fast", _limited),
    "/calls/broken": ("all calls, every second time; else half of the answer", _broken),
    "/calls/html": ("a page of HTML in the place of calls", _html),
    "/manifests": ("cargo manifests as XML", _manifests),
    "/manifests/pages": ("the same, 15 a page, by page", _manifest_pages),
}
"""What stands where, and what answers."""

_LOGIN = f"""\
[secrets]
password = "env:OFFICE_SECRET"

[[before]]
url = "/login"
method = "POST"
body = {{ user = "{OFFICE_CLIENT}", password = "{{password}}" }}
secrets.token = "$.session.token"

[sign_in]
kind = "bearer"
secret = "{{token}}"
"""
_OAUTH = f"""\
[sign_in]
kind = "oauth"
token_url = "/token"
client = "{OFFICE_CLIENT}"
secret = "env:OFFICE_SECRET"
"""
_NUMBERED = """\
[pages]
kind = "number"
parameter = "page"
size = 50
size_parameter = "size"
total = "$.total"
"""
_EACH = """\
records = "$.calls[*]"

[each]
path = "$.moves_at"
under = "moves"
records = "$.moves"
"""
FEEDS = {
    "next": ("/calls/next", 'pages = { kind = "next", path = "$.next" }\n'),
    "cursor": (
        "/calls/cursor",
        'pages = { kind = "cursor", path = "$.meta.cursor", parameter = "after" }\n',
    ),
    "number": ("/calls/number", _NUMBERED.replace("50", "100")),
    "offset": ("/calls/offset", 'pages = { kind = "offset", parameter = "from" }\n'),
    "signed": ("/calls/signed", 'sign_in = { kind = "bearer", secret = "env:OFFICE_TOKEN" }\n'),
    "login": ("/calls/private", f"{_LOGIN}\n{_NUMBERED}"),
    "oauth": ("/calls/private", f"{_OAUTH}\n{_NUMBERED}"),
    "details": ("/calls/brief", _EACH),
    "manifests": (
        "/manifests/pages",
        'records = "/manifest:manifests/manifest:manifest"\n'
        'pages = { kind = "number", parameter = "page" }\n',
    ),
}
"""What feed files ask, by their names, and what they say beside the address."""
