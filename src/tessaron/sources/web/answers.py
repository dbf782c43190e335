"""Answers, and how a response becomes one: what is no answer, and what may be one if asked again."""

from __future__ import annotations

import codecs
import re
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, field
from datetime import UTC, datetime
from email.utils import parsedate_to_datetime
from typing import TYPE_CHECKING
from urllib.parse import urljoin, urlsplit

from tessaron.core.base.errors import SourceError
from tessaron.sources.web.secret_values import shown

if TYPE_CHECKING:
    import httpx

PAGE_BYTES, PIECE_BYTES = 16 * 1024 * 1024, 64 * 1024
"""A longer answer is no page: it is read on as a stream."""
_PORTS = {"http": 80, "https": 443}
_FIRST_FAULT = 400
_AGAIN = frozenset((429, 500, 502, 503, 504))
_HINTS = {
    403: "it may not be read by who asks",
    404: "check the address",
}
_TITLE = re.compile(rb"<title[^>]*>\s*([^<]{1,80})", re.IGNORECASE)


@dataclass(frozen=True, slots=True)
class Answer:
    """What was answered.

    Attributes:
        url: Where it came from in the end.
        head: The answer, or its first part.
        rest: What is left of a long one; None where the head is all.
        following: The next page that a Link header names (RFC 8288).
        headers: What else stood at its head; names are in lower case.
    """

    url: str
    head: bytes
    rest: Iterator[bytes] | None = None
    following: str | None = None
    headers: Mapping[str, str] = field(default_factory=dict)


class TryAgainError(Exception):
    """A request that failed in a way that may pass.

    Attributes:
        said: What happened.
        wait: Seconds that the server asks to wait; None where it does not say.
    """

    def __init__(self, said: str, wait: float | None = None):
        super().__init__(said)
        self.said, self.wait = said, wait


class NotFoundError(SourceError):
    """There is nothing at an address."""


class NotSignedInError(SourceError):
    """Who asks is not known, or no more."""


def answer_of(response: httpx.Response) -> Answer:
    """Return the answer that a response holds, as much of it read as a page may be long."""
    pieces = response.iter_bytes(PIECE_BYTES)
    head, is_whole = bytearray(), False
    while len(head) < PAGE_BYTES and not is_whole:
        piece = next(pieces, None)
        head += piece or b""
        is_whole = piece is None
    following = response.links.get("next", {}).get("url")
    whole = _unmarked(bytes(head)) if is_whole else bytes(head)
    return Answer(str(response.url), whole, None if is_whole else pieces, following, dict(response.headers))


def check_status(response: httpx.Response, url: str, is_signed: bool) -> None:
    """Close a response that is a fault, and say so.

    Raises:
        TryAgainError: When it may pass.
        NotFoundError: When there is nothing.
        NotSignedInError: When it is not known who asks.
        SourceError: For another fault.
    """
    status = response.status_code
    if status < _FIRST_FAULT:
        return
    response.close()
    said = f"{status} {response.reason_phrase}".strip()
    if status in _AGAIN:
        raise TryAgainError(said, _asked_wait(response.headers.get("retry-after")))
    if status == 401:
        hint = "the secret is not taken" if is_signed else "sign in: [sign_in] in a feed file"
        raise NotSignedInError(f"{shown(url)}: {said}; {hint}")
    hint = f"; {_HINTS[status]}" if status in _HINTS else ""
    kind = NotFoundError if status == 404 else SourceError
    raise kind(f"{shown(url)}: {said}{hint}")


def check_kind(head: bytes, url: str) -> None:
    """Say so where an answer is a page of HTML.

    Raises:
        SourceError: When it is.
    """
    if head[:1024].lstrip().lower().startswith((b"<!doctype html", b"<html")):
        found = _TITLE.search(head[:65536])
        title = f' ("{found.group(1).decode("utf-8", "replace").strip()}")' if found else ""
        said = f"a page of HTML{title} in the place of JSON or XML; is the address right, are you signed in?"
        raise SourceError(f"{shown(url)}: {said}")


@contextmanager
def told_of(url: str) -> Iterator[None]:
    """Say of an answer that breaks off where it is from."""
    import httpx

    try:
        yield
    except httpx.HTTPError as error:
        raise SourceError(
            f"{shown(url)}: the answer broke off ({type(error).__name__}); try again"
        ) from error


def joined(url: str, following: str) -> str:
    """Return where an answer leads.

    Raises:
        SourceError: When that is no address.
    """
    try:
        found = urljoin(url, following)
        host_of(found)
    except ValueError as error:
        raise SourceError(f"{shown(url)}: leads to what is no address: {error}") from error
    return found


def host_of(url: str) -> tuple[str, str | None, int | None]:
    """Return what has to be the same for a secret to be sent."""
    parts = urlsplit(url)
    return parts.scheme, parts.hostname, parts.port or _PORTS.get(parts.scheme)


def _asked_wait(text: str | None) -> float | None:
    """Return the seconds of a Retry-After header (RFC 9110, section 10.2.3)."""
    if text is None:
        return None
    if text.strip().isdigit():
        return float(text)
    try:
        return max(0.0, (parsedate_to_datetime(text) - datetime.now(UTC)).total_seconds())
    except (ValueError, TypeError):
        return None


def _unmarked(data: bytes) -> bytes:
    """Return an answer without its byte order mark, which is none in the midst of others."""
    if data.startswith((codecs.BOM_UTF16_LE, codecs.BOM_UTF16_BE)):
        return data.decode("utf-16", "surrogatepass").encode("utf-8", "surrogatepass")
    return data.removeprefix(codecs.BOM_UTF8)
