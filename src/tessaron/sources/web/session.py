"""What is known while a feed is asked: values, secrets, and who asks; tokens are renewed when they expire."""

from __future__ import annotations

import base64
import time
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from datetime import datetime
from threading import Lock
from typing import cast
from urllib.parse import unquote, urlsplit

from tessaron.core.base.errors import SourceError
from tessaron.core.base.visible import in_quotes
from tessaron.sources.web.answer_documents import document_of, first_of
from tessaron.sources.web.answers import Answer, joined
from tessaron.sources.web.feed_model import FeedPart, RequestPart, SignIn, StepPart
from tessaron.sources.web.secret_values import MASK, Hidden, secret_of, shown
from tessaron.sources.web.templates import filled, moments, value_at

_SPARE_SECONDS = 20
"""A token that is good for so little time more is renewed before it is used."""


@dataclass(frozen=True)
class Asked:
    """One request of a feed, before anything is filled in: the same again once a token is renewed.

    Attributes:
        part: What is asked.
        url: Its address, where that is not a text of the feed file.
        template: Its address as the feed file has it; else `url` counts.
        parameters: More parameters: of pages.
        each: What `{each}` stands for.
        is_signed: Whether it says who asks.
        is_filled: Whether nothing is to be filled in any more.
    """

    part: RequestPart
    url: str = ""
    template: str = ""
    parameters: Mapping[str, str | int] = field(default_factory=dict)
    each: str | None = None
    is_signed: bool = True
    is_filled: bool = False


Ask = Callable[[Asked], Answer]


class Session:
    """Knows what is filled into requests, and signs them.

    Args:
        feed: The feed.
        known: The values that were known to the run whose answers are used; empty for a run of its own.
        mark: How far the last run came; None for a first one.
        now: The moment from which others are seen.
        has_secrets: Whether secrets are read; where nothing is sent over the net they are not needed.

    Raises:
        UsageError: When a secret is not there.
    """

    def __init__(
        self, feed: FeedPart, known: Mapping[str, str | int], mark: str | int | None, now: datetime,
        has_secrets: bool = True,
    ):  # fmt: skip
        self._feed = feed
        self.hidden = Hidden()
        self._has_secrets = has_secrets
        values = moments(now) | {name: value_at(value, now) for name, value in feed.values.items()}
        if feed.mark is not None:
            values["mark"] = feed.mark.first if mark is None else mark
        self.plain: dict[str, str | int] = {**values, **known}
        secrets = {name: self._read(where) for name, where in feed.secrets.items()}
        self._values: dict[str, str | int] = {**self.plain, **secrets}
        self.secret_names = frozenset(feed.secrets) | {name for step in feed.before for name in step.secrets}
        self._headers: dict[str, str] = {}
        self._parameters: dict[str, str] = {}
        self._refresh: str | None = None
        self._expires = float("inf")
        self._lock = Lock()
        self.generation = 0

    @property
    def is_renewable(self) -> bool:
        """Whether who asks can become known once more."""
        sign_in = self._feed.sign_in
        return bool(self._feed.before) or (sign_in is not None and sign_in.kind == "oauth")

    @property
    def values(self) -> dict[str, str | int]:
        """All that may be filled in, as it is now."""
        return self._values

    @property
    def signature(self) -> tuple[dict[str, str], dict[str, str]]:
        """The headers and parameters that say who asks, as they are now."""
        return self._headers, self._parameters

    def start(self, ask: Ask) -> None:
        """Ask what is asked before, and make known who asks.

        Raises:
            SourceError: When an answer does not have what is to be taken of it.
        """
        self._headers, self._parameters = {}, {}
        sign_in = self._feed.sign_in
        if sign_in is not None and "{" not in sign_in.secret:
            self._sign(ask)
        for step in self._feed.before:
            self._take(step, ask(Asked(step, template=step.url, is_signed=step.signed)))
            if sign_in is not None and not self._headers and not self._parameters:
                self._sign(ask)
        parts = urlsplit(self._feed.url)
        if sign_in is None and parts.password is not None:
            # So that pages which are named without it are signed, too.
            secret = self.hidden.add(unquote(parts.password))
            self._headers = _basic(unquote(parts.username or ""), secret)

    def is_expired(self) -> bool:
        """Say whether it is known that the token is of no use any more."""
        return time.monotonic() > self._expires

    def renew(self, seen: int, ask: Ask) -> None:
        """Make known once more who asks, unless another has done so since.

        Args:
            seen: The generation whose token was refused.
            ask: Asks.
        """
        with self._lock:
            if seen == self.generation:
                self.start(ask)
                self.generation += 1

    def _read(self, reference: str) -> str:
        """Return a secret, which is hidden from now on."""
        return self.hidden.add(secret_of(reference)) if self._has_secrets else MASK

    def _take(self, step: StepPart, answer: Answer) -> None:
        document = document_of(answer.head) if answer.rest is None else None
        for is_secret, wanted in ((False, step.take), (True, step.secrets)):
            for name, path in wanted.items():
                found = first_of(document, path)
                if found is None or isinstance(found, (dict, list)):
                    said = f"the answer has no value at {path}, which is to be {{{name}}}"
                    raise SourceError(f"{shown(answer.url)}: {said}")
                text = self.hidden.add(str(found)) if is_secret else str(found)
                self._values = {**self._values, name: text}

    def _sign(self, ask: Ask) -> None:
        sign_in = cast("SignIn", self._feed.sign_in)
        if "{" in sign_in.secret:
            if sign_in.secret.strip("{}") not in self._values:
                return
            secret = str(filled(sign_in.secret, self._values))
        else:
            secret = self._read(sign_in.secret)
        if sign_in.kind == "oauth":
            secret = self._token(sign_in, secret, ask)
        if sign_in.kind in ("bearer", "oauth"):
            self._headers = {"Authorization": f"Bearer {secret}"}
        elif sign_in.kind == "basic":
            self._headers = _basic(str(filled(str(sign_in.user), self._values)), secret)
            self.hidden.add(self._headers["Authorization"].removeprefix("Basic "))
        elif sign_in.kind == "header":
            self._headers = {str(sign_in.name): secret}
        else:
            self._parameters = {str(sign_in.name): secret}

    def _token(self, sign_in: SignIn, secret: str, ask: Ask) -> str:
        """Return a new access token (RFC 6749, sections 4.4 and 6)."""
        if self._refresh is None and sign_in.refresh is not None:
            self._refresh = self._read(sign_in.refresh)
        if self._refresh is not None:
            grant = {"grant_type": "refresh_token", "refresh_token": self._refresh}
        else:
            grant = {"grant_type": "client_credentials"}
        form = grant | ({"scope": sign_in.scope} if sign_in.scope else {})
        headers: dict[str, str] = {}
        if sign_in.client_in == "header":
            headers = _basic(str(sign_in.client), secret)
            self.hidden.add(headers["Authorization"].removeprefix("Basic "))
        else:
            form |= {"client_id": str(sign_in.client), "client_secret": secret}
        part = RequestPart(method="POST", form=form, headers=headers)
        url = joined(self._feed.url, str(sign_in.token_url))
        answer = ask(Asked(part, url=url, is_signed=False, is_filled=True))
        document = document_of(answer.head) if answer.rest is None else None
        token = first_of(document, "$.access_token")
        if not isinstance(token, str):
            raise SourceError(f"{shown(url)}: expected an answer with access_token, got {_shown(answer)}")
        if isinstance(refresh := first_of(document, "$.refresh_token"), str):
            self._refresh = self.hidden.add(refresh)
        lasts = first_of(document, "$.expires_in")
        is_number = isinstance(lasts, int) and not isinstance(lasts, bool)
        self._expires = time.monotonic() + lasts - _SPARE_SECONDS if is_number else float("inf")
        if is_number and lasts <= _SPARE_SECONDS:
            self._expires = time.monotonic() + lasts
        return self.hidden.add(token)


def _shown(answer: Answer) -> str:
    document = document_of(answer.head) if answer.rest is None else None
    error = first_of(document, "$.error")
    return in_quotes(str(error)) if isinstance(error, str) else "something else"


def _basic(user: str, secret: str) -> dict[str, str]:
    pair = base64.b64encode(f"{user}:{secret}".encode()).decode()
    return {"Authorization": f"Basic {pair}"}
