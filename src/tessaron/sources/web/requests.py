"""One request after another: what to do when it fails, where it leads, who is told who asks."""

from __future__ import annotations

import json
import logging
import time
from collections.abc import Iterator, Mapping
from contextlib import suppress
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import TYPE_CHECKING, Any, cast
from urllib.parse import parse_qsl, quote, urlencode, urlsplit
from weakref import finalize

from tessaron.core.base.errors import SourceError, UsageError
from tessaron.sources.forms.addresses import without_user
from tessaron.sources.web.answers import (
    Answer,
    NotSignedInError,
    TryAgainError,
    answer_of,
    check_kind,
    check_status,
    host_of,
    joined,
)
from tessaron.sources.web.feed_model import FeedPart
from tessaron.sources.web.kept_answers import KeptAnswers
from tessaron.sources.web.secret_values import MASK, Hidden, shown
from tessaron.sources.web.session import Asked, Session
from tessaron.sources.web.templates import filled, filled_address, filled_json, filled_xml, names_in

if TYPE_CHECKING:
    import httpx

_MOST_HOPS = 5
_LONGEST_WAIT = 300.0
_LOOPBACK = ("localhost", "127.0.0.1", "::1")
_SEE_OTHER = 303
_LOG = logging.getLogger("tessaron.web")


@dataclass(frozen=True, slots=True)
class Request:
    """A request as it is sent.

    Attributes:
        url: Its address, parameters included.
        method: GET or POST.
        headers: Those of the feed file.
        content: What it sends.
        signature: Headers that say who asks.
        has_secret: Whether a secret stands in what it sends.
    """

    url: str
    method: str
    headers: Mapping[str, str]
    content: bytes | None
    signature: Mapping[str, str]
    has_secret: bool

    def key(self, hidden: Hidden) -> str:
        """Return what makes two requests the same, without secrets."""
        content = "" if self.content is None else self.content.decode("utf-8", "replace")
        key = hidden.masked(f"{self.method} {self.url} {content}".rstrip())
        # What stands for a secret where none is known is quoted like one.
        return key.replace(quote(MASK, ""), MASK)


class Asker:
    """Asks for answers, as a feed says.

    Args:
        feed: The feed.
        kept: Where answers are kept, or come from; None for neither.
        mark: How far the last run came; None for a first one.

    Raises:
        UsageError: When a secret is not there, or would go over the net in the open.
    """

    def __init__(self, feed: FeedPart, kept: KeptAnswers | None = None, mark: str | int | None = None):
        self._feed, self._kept = feed, kept
        self._host = host_of(feed.url)
        self._written = frozenset(map(host_of, _written_addresses(feed)))
        is_live = kept is None or kept.is_live
        known = {} if kept is None else kept.values
        self._session = Session(feed, known, mark, datetime.now(UTC), is_live)
        if kept is not None:
            kept.begin(self._session.plain)
        self._check_open()
        self._client = _client(feed.seconds)
        finalize(self, self._client.close)
        self._before: list[tuple[str, Answer]] = []
        self._session.start(self._ask_before)
        if kept is not None and is_live:
            # By now all is known to be secret that is.
            for key, answer in self._before:
                kept.keep(key, answer, self._session.hidden)

    def ask(self, asked: Asked) -> Answer:
        """Return an answer, as much of it read as a page may be long.

        Raises:
            SourceError: When there is none, or it is not what was asked for.
        """
        request = self._request(asked)
        key = request.key(self._session.hidden)
        if self._kept is not None and (answer := self._kept.answer(key)) is not None:
            return answer
        answer = self._live(asked, request)
        check_kind(answer.head, request.url)
        return answer if self._kept is None else self._kept.keep(key, answer, self._session.hidden)

    def _ask_before(self, asked: Asked) -> Answer:
        """Return the answer to what is asked before; a run that goes on asks once more, for its secrets."""
        request = self._request(asked)
        key = request.key(self._session.hidden)
        if self._kept is not None and not self._kept.is_live:
            return cast("Answer", self._kept.answer(key))
        answer = self._tried(asked, request)
        check_kind(answer.head, request.url)
        self._before.append((key, answer))
        return answer

    def _live(self, asked: Asked, request: Request) -> Answer:
        seen = self._session.generation
        is_signed = asked.is_signed and self._session.is_renewable
        if is_signed and self._session.is_expired():
            self._session.renew(seen, self._ask_before)
            seen, request = self._session.generation, self._request(asked)
        try:
            return self._tried(asked, request)
        except NotSignedInError:
            if not is_signed:
                raise
        _LOG.info("%s: not signed in any more; once again", shown(request.url))
        self._session.renew(seen, self._ask_before)
        return self._tried(asked, self._request(asked))

    def _tried(self, asked: Asked, request: Request) -> Answer:
        from tenacity import Retrying, retry_if_exception_type, stop_after_attempt

        attempts = Retrying(
            stop=stop_after_attempt(self._feed.attempts),
            retry=retry_if_exception_type(TryAgainError),
            wait=self._wait,
            reraise=True,
        )
        try:
            answer: Answer = attempts(self._once, request, asked.is_signed)
        except TryAgainError as error:
            said = f"{error.said}, {self._feed.attempts} times; try later"
            raise SourceError(f"{shown(request.url)}: {said}") from error
        return answer

    def _wait(self, state: Any) -> float:
        from tenacity import wait_random_exponential

        error = state.outcome.exception()
        wait = error.wait
        if wait is None:
            wait = wait_random_exponential(multiplier=0.5, max=60)(state)
        wait = min(float(wait), _LONGEST_WAIT)
        _LOG.warning("%s: %s; trying again in %.1f s", shown(state.args[0].url), error.said, wait)
        return wait

    def _once(self, request: Request, is_signed: bool) -> Answer:
        import httpx

        began = time.monotonic()
        try:
            response = self._followed(request, is_signed)
            answer = answer_of(response)
        except (httpx.TimeoutException, httpx.NetworkError, httpx.RemoteProtocolError) as error:
            raise TryAgainError(f"no whole answer ({type(error).__name__})") from error
        except (httpx.HTTPError, httpx.InvalidURL) as error:
            said = self._session.hidden.masked(str(error))
            raise SourceError(f"{shown(request.url)}: {said}") from error
        self._tell(request, f"{response.status_code}, {len(answer.head):,} bytes", began)
        return answer

    def _followed(self, request: Request, is_signed: bool) -> httpx.Response:
        """Return the response to a request, from where that leads."""
        url, method, content = request.url, request.method, request.content
        began = time.monotonic()
        for _ in range(_MOST_HOPS):
            is_home = host_of(url) == host_of(request.url)
            # Where it leads elsewhere nobody is told who asks.
            headers = {**request.headers, **request.signature} if is_home else {}
            if not is_home and content is not None and request.has_secret:
                said = "leads to another host, where a secret in the body is not sent"
                raise SourceError(f"{shown(request.url)}: {said}")
            response = self._client.send(
                self._client.build_request(method, url, headers=headers, content=content), stream=True
            )
            if not response.is_redirect:
                if response.is_error:
                    self._tell(request, f"{response.status_code} {response.reason_phrase}", began)
                check_status(response, url, is_signed and bool(request.signature))
                return response
            response.close()
            if response.status_code == _SEE_OTHER:
                method, content = "GET", None
            url = joined(url, response.headers["location"])
            _LOG.info("%s leads to %s", shown(request.url), shown(url))
        raise SourceError(f"{shown(request.url)}: leads elsewhere more than {_MOST_HOPS} times")

    def _tell(self, request: Request, what: str, began: float) -> None:
        _LOG.info("%s -> %s, %.2f s", request.key(self._session.hidden), what, time.monotonic() - began)

    def _request(self, asked: Asked) -> Request:
        """Return what is sent for what is asked, as far as is known now."""
        part = asked.part
        values = {} if asked.is_filled else dict(self._session.values)
        if asked.each is not None:
            values["each"] = asked.each
        url = _without_password(asked.url or joined(self._feed.url, filled_address(asked.template, values)))
        if urlsplit(url).scheme not in ("http", "https"):
            raise SourceError(f"expected an address of http or https, got {shown(url)}")
        is_written = host_of(url) in self._written
        # Of what only an answer says is to be asked, nobody is told secrets.
        headers = {
            name: filled(text, values)
            for name, text in part.headers.items()
            if is_written or not self._tells(text)
        }
        signature, more = self._session.signature if self._is_told(asked, url) else ({}, {})
        in_address = {**asked.parameters} if self._in_address(asked) else {}
        parameters = {
            name: filled(value, values) if isinstance(value, str) else value
            for name, value in part.parameters.items()
            if is_written or not self._tells(str(value))
        }
        url = _with_parameters(url, {**parameters, **in_address, **more})
        content, kind = _content_of(asked, values, {} if self._in_address(asked) else asked.parameters)
        if kind and "content-type" not in map(str.lower, headers):
            headers["Content-Type"] = kind
        sent = "" if content is None else content.decode("utf-8", "replace")
        has_secret = self._is_secret(sent) or self._tells(json.dumps([part.body, part.form, part.xml]))
        if has_secret and not is_written:
            raise SourceError(f"{shown(url)}: another host, where a secret in the body is not sent")
        if has_secret or any(map(self._is_secret, (url, *headers.values()))):
            self._check_encrypted(url)
        return Request(url, part.method, headers, content, signature, has_secret)

    def _tells(self, template: str) -> bool:
        """Say whether a secret is filled into a text, be it ever so short."""
        return any(name in self._session.secret_names for name in names_in(template))

    def _is_secret(self, text: str) -> bool:
        return self._session.hidden.masked(text) != text

    def _is_told(self, asked: Asked, url: str) -> bool:
        """Say whether a host is told who asks: only that of the feed is."""
        return asked.is_signed and host_of(url) == self._host

    def _in_address(self, asked: Asked) -> bool:
        return self._feed.pages.within == "address" or asked.part is not self._feed

    def _check_open(self) -> None:
        parts = urlsplit(self._feed.url)
        if self._feed.sign_in is not None or parts.password is not None:
            self._check_encrypted(self._feed.url)

    def _check_encrypted(self, url: str) -> None:
        """Refuse to send a secret in the open.

        Raises:
            UsageError: When one would be.
        """
        sign_in = self._feed.sign_in
        parts = urlsplit(url)
        may_be_open = sign_in is not None and sign_in.over_http
        if parts.scheme == "http" and parts.hostname not in _LOOPBACK and not may_be_open:
            raise UsageError(f"{shown(url)}: a secret is only sent over https")


def _written_addresses(feed: FeedPart) -> Iterator[str]:
    """Yield the addresses whose hosts stand in a feed as they are: who wrote it wants them asked."""
    yield feed.url
    templates = [step.url for step in feed.before]
    templates += [feed.each.url] if feed.each is not None else []
    templates += [feed.sign_in.token_url] if feed.sign_in is not None and feed.sign_in.token_url else []
    for template in templates:
        if "{" not in template.partition("://")[2].partition("/")[0] and not template.startswith("{"):
            yield joined(feed.url, template)


def _without_password(url: str) -> str:
    """Return an address without the password in it: that is sent as a header, to the host of the feed."""
    return url if urlsplit(url).password is None else without_user(url)


def _with_parameters(url: str, parameters: Mapping[str, str | int]) -> str:
    """Return an address with parameters, which stand for those of their names that it has."""
    if not parameters:
        return url
    parts = urlsplit(url)
    given = [(name, value) for name, value in parse_qsl(parts.query, True) if name not in parameters]
    query = urlencode([*given, *((name, str(value)) for name, value in parameters.items())])
    return parts._replace(query=query).geturl()


def _content_of(
    asked: Asked, values: Mapping[str, str | int], more: Mapping[str, str | int]
) -> tuple[bytes | None, str]:
    """Return what a request sends, and what kind that is."""
    part = asked.part
    if part.form or (more and part.xml is None and part.body is None):
        form = {
            name: filled(value, values) if isinstance(value, str) else value
            for name, value in part.form.items()
        }
        return urlencode({**form, **more}).encode(), "application/x-www-form-urlencoded"
    if part.xml is not None:
        return filled_xml(part.xml, values).encode(), "application/xml; charset=utf-8"
    if part.body is None:
        return None, ""
    body = filled_json(part.body, values)
    if more and isinstance(body, dict):
        body = {**body, **more}
    return json.dumps(body, ensure_ascii=False).encode("utf-8", "surrogatepass"), "application/json"


def _client(seconds: float) -> httpx.Client:
    try:
        import httpx
        import tenacity  # noqa: F401
    except ImportError as error:
        raise UsageError("the web needs httpx and tenacity: pip install 'tessaron[web]'") from error
    has_http2 = False
    with suppress(ImportError):
        import h2  # noqa: F401

        has_http2 = True
    return httpx.Client(timeout=seconds, http2=has_http2)
