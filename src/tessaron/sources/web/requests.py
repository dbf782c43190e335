"""One request after another: who asks, what to do when it fails, what is no answer."""

from __future__ import annotations

import base64
import codecs
import logging
import os
import re
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime
from email.utils import parsedate_to_datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any
from urllib.parse import unquote, urljoin, urlsplit
from weakref import finalize

from tessaron.core.base.errors import SourceError, UsageError
from tessaron.sources.web.feed_model import FeedPart, SignIn

if TYPE_CHECKING:
    import httpx

_MOST_HOPS = 5
_LONGEST_WAIT = 300.0
_LOOPBACK = ("localhost", "127.0.0.1", "::1")
_AGAIN = frozenset((429, 500, 502, 503, 504))
_HINTS = {
    401: "sign in: [sign_in] in a feed file",
    403: "it may not be read by who asks",
    404: "check the address",
}
_FIRST_FAULT, _SEE_OTHER = 400, 303
_PORTS = {"http": 80, "https": 443}
_LOG = logging.getLogger("tessaron.web")
_PAGE_BYTES, _PIECE_BYTES = 16 * 1024 * 1024, 64 * 1024
"""A longer answer is no page: it is read on as a stream."""
_TITLE = re.compile(rb"<title[^>]*>\s*([^<]{1,80})", re.IGNORECASE)


@dataclass(frozen=True, slots=True)
class Answer:
    """What was answered.

    Attributes:
        url: Where it came from in the end.
        head: The answer, or its first part.
        rest: What is left of a long one; None where the head is all.
        following: The next page that a Link header names (RFC 8288).
    """

    url: str
    head: bytes
    rest: Iterator[bytes] | None
    following: str | None


class TryAgainError(Exception):
    """A request that failed in a way that may pass.

    Attributes:
        said: What happened.
        wait: Seconds that the server asks to wait; None where it does not say.
    """

    def __init__(self, said: str, wait: float | None = None):
        super().__init__(said)
        self.said, self.wait = said, wait


class Asker:
    """Asks for answers, as a feed says.

    Args:
        feed: The feed.

    Raises:
        UsageError: When a secret is not there, or would go over the net in the open.
    """

    def __init__(self, feed: FeedPart):
        self._feed = feed
        self._headers, self._parameters = _signed(feed.sign_in)
        parts = urlsplit(feed.url)
        self._host = _host_of(feed.url)
        is_signed = feed.sign_in is not None or parts.password is not None
        if feed.sign_in is None and parts.password is not None:
            # So that pages which are named without it are signed, too.
            self._headers = _basic(unquote(parts.username or ""), unquote(parts.password))
        if parts.scheme == "http" and is_signed and parts.hostname not in _LOOPBACK:
            raise UsageError(f"{shown(feed.url)}: a secret is only sent over https")
        self._client = _client(feed.seconds)
        finalize(self, self._client.close)

    def ask(self, url: str, parameters: Mapping[str, str | int]) -> Answer:
        """Return an answer, as much of it read as a page may be long.

        Raises:
            SourceError: When there is none, or it is not what was asked for.
        """
        from tenacity import Retrying, retry_if_exception_type, stop_after_attempt

        attempts = Retrying(
            stop=stop_after_attempt(self._feed.attempts),
            retry=retry_if_exception_type(TryAgainError),
            wait=self._wait,
            reraise=True,
        )
        try:
            answer: Answer = attempts(self._once, url, parameters)
        except TryAgainError as error:
            said = f"{error.said}, {self._feed.attempts} times; try later"
            raise SourceError(f"{shown(url)}: {said}") from error
        _check_kind(answer.head, url)
        return answer

    def _wait(self, state: Any) -> float:
        from tenacity import wait_random_exponential

        error = state.outcome.exception()
        wait = error.wait
        if wait is None:
            wait = wait_random_exponential(multiplier=0.5, max=60)(state)
        wait = min(float(wait), _LONGEST_WAIT)
        _LOG.warning("%s: %s; trying again in %.1f s", shown(self._feed.url), error.said, wait)
        return wait

    def _once(self, url: str, parameters: Mapping[str, str | int]) -> Answer:
        import httpx

        try:
            response = self._followed(url, parameters)
            pieces = response.iter_bytes(_PIECE_BYTES)
            head, is_whole = bytearray(), False
            while len(head) < _PAGE_BYTES and not is_whole:
                piece = next(pieces, None)
                head += piece or b""
                is_whole = piece is None
        except (httpx.TimeoutException, httpx.NetworkError, httpx.RemoteProtocolError) as error:
            raise TryAgainError(f"no whole answer ({type(error).__name__})") from error
        except (httpx.HTTPError, httpx.InvalidURL) as error:
            raise SourceError(f"{shown(url)}: {error}") from error
        following = response.links.get("next", {}).get("url")
        whole = _unmarked(bytes(head)) if is_whole else bytes(head)
        return Answer(str(response.url), whole, None if is_whole else pieces, following)

    def _followed(self, url: str, parameters: Mapping[str, str | int]) -> Any:
        """Return the response at an address, or where that leads."""
        method, body = self._feed.method, self._feed.body
        for _ in range(_MOST_HOPS):
            # Where it leads elsewhere nobody is told who asks.
            is_home = _host_of(url) == self._host
            headers = {**self._feed.headers, **(self._headers if is_home else {})}
            given = {**parameters, **(self._parameters if is_home else {})}
            request = self._client.build_request(method, url, headers=headers, json=body)
            if given:
                request.url = request.url.copy_merge_params(given)
            response = self._client.send(request, stream=True)
            if not response.is_redirect:
                _check_status(response, url)
                return response
            response.close()
            if response.status_code == _SEE_OTHER:
                method, body = "GET", None
            url, parameters = joined(url, response.headers["location"]), {}
        raise SourceError(f"{shown(url)}: leads elsewhere more than {_MOST_HOPS} times")


def _client(seconds: float) -> httpx.Client:
    try:
        import httpx
        import tenacity  # noqa: F401
    except ImportError as error:
        raise UsageError("the web needs httpx and tenacity: pip install 'tessaron[web]'") from error
    return httpx.Client(timeout=seconds)


def _unmarked(data: bytes) -> bytes:
    """Return an answer without its byte order mark, which is none in the midst of others."""
    if data.startswith((codecs.BOM_UTF16_LE, codecs.BOM_UTF16_BE)):
        return data.decode("utf-16", "surrogatepass").encode("utf-8", "surrogatepass")
    return data.removeprefix(codecs.BOM_UTF8)


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
        _host_of(found)
    except ValueError as error:
        raise SourceError(f"{shown(url)}: leads to what is no address: {error}") from error
    return found


def shown(url: str) -> str:
    """Return an address without what could be secret: user, password and parameters."""
    parts = urlsplit(url)
    return f"{parts.scheme}://{parts.netloc.rpartition('@')[2]}{parts.path}"


def _signed(sign_in: SignIn | None) -> tuple[dict[str, str], dict[str, str]]:
    """Return the headers and parameters that say who asks."""
    if sign_in is None:
        return {}, {}
    secret = secret_of(sign_in.secret)
    if sign_in.kind == "bearer":
        return {"Authorization": f"Bearer {secret}"}, {}
    if sign_in.kind == "basic":
        return _basic(str(sign_in.user), secret), {}
    name = str(sign_in.name)
    return ({name: secret}, {}) if sign_in.kind == "header" else ({}, {name: secret})


def _basic(user: str, secret: str) -> dict[str, str]:
    pair = base64.b64encode(f"{user}:{secret}".encode()).decode()
    return {"Authorization": f"Basic {pair}"}


def _host_of(url: str) -> tuple[str, str | None, int | None]:
    """Return what has to be the same for a secret to be sent."""
    parts = urlsplit(url)
    return parts.scheme, parts.hostname, parts.port or _PORTS.get(parts.scheme)


def secret_of(reference: str) -> str:
    """Return the secret that stands at `env:NAME` or `file:PATH`.

    Raises:
        UsageError: When it is not there.
    """
    kind, _, where = reference.partition(":")
    if kind == "env":
        if where not in os.environ:
            raise UsageError(f"the environment variable {where} is not set; it is to hold the secret")
        return os.environ[where]
    try:
        return Path(where).read_text("utf-8").strip()
    except OSError as error:
        raise UsageError(f"{where}: cannot be read, and is to hold the secret: {error.strerror}") from error


def _check_status(response: Any, url: str) -> None:
    status = response.status_code
    if status < _FIRST_FAULT:
        return
    response.close()
    if status in _AGAIN:
        wait = _asked_wait(response.headers.get("retry-after"))
        raise TryAgainError(f"{status} {response.reason_phrase}", wait)
    hint = f"; {_HINTS[status]}" if status in _HINTS else ""
    raise SourceError(f"{shown(url)}: {status} {response.reason_phrase}{hint}")


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


def _check_kind(head: bytes, url: str) -> None:
    if head[:1024].lstrip().lower().startswith((b"<!doctype html", b"<html")):
        found = _TITLE.search(head[:65536])
        title = f' ("{found.group(1).decode("utf-8", "replace").strip()}")' if found else ""
        said = f"a page of HTML{title} in the place of JSON or XML; is the address right, are you signed in?"
        raise SourceError(f"{shown(url)}: {said}")
