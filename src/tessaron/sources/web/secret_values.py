"""Secrets: where they are read from, and how they are kept out of all that is shown or written."""

from __future__ import annotations

import os
import re
from pathlib import Path
from threading import Lock
from urllib.parse import quote, quote_plus, urlsplit

from tessaron.core.base.errors import UsageError
from tessaron.sources.forms.addresses import without_user

MASK = "***"
_LEAST_HIDDEN = 4
"""A shorter text is no secret, and stands in too much else."""


def secret_of(reference: str) -> str:
    """Return the secret that stands at `env:NAME`, `file:PATH` or `keyring:SERVICE/USER`.

    Raises:
        UsageError: When it is not there.
    """
    kind, _, where = reference.partition(":")
    if kind == "env":
        if where not in os.environ:
            raise UsageError(f"the environment variable {where} is not set; it is to hold the secret")
        return os.environ[where]
    if kind == "keyring":
        return _of_keyring(*where.split("/", 1))
    try:
        return Path(where).read_text("utf-8").strip()
    except (OSError, UnicodeDecodeError) as error:
        said = getattr(error, "strerror", None) or str(error)
        raise UsageError(f"{where}: cannot be read, and is to hold the secret: {said}") from error


def _of_keyring(service: str, user: str) -> str:
    try:
        import keyring
    except ImportError as error:
        raise UsageError("keyring: needs keyring: pip install 'tessaron[keyring]'") from error
    try:
        found = keyring.get_password(service, user)
    except keyring.errors.KeyringError as error:
        raise UsageError(f"keyring:{service}/{user}: the keyring gives nothing: {error}") from error
    if found is None:
        raise UsageError(f"keyring:{service}/{user}: the keyring has no such secret")
    return str(found)


class Hidden:
    """The secrets that are known so far; none of them stands in what it has masked. Threads may share it."""

    def __init__(self) -> None:
        self._known: set[str] = set()
        self._lock = Lock()
        self._pattern: re.Pattern[str] | None = None

    def add(self, secret: str) -> str:
        """Keep a secret; return it."""
        if len(secret) >= _LEAST_HIDDEN:
            with self._lock:
                self._known |= {secret, quote(secret, ""), quote_plus(secret)}
                longest_first = sorted(self._known, key=len, reverse=True)
                self._pattern = re.compile("|".join(map(re.escape, longest_first)))
        return secret

    def masked(self, text: str) -> str:
        """Return a text without secrets."""
        return text if self._pattern is None else self._pattern.sub(MASK, text)

    def masker(self) -> Masker:
        """Return what masks bytes that come in pieces."""
        return Masker([each.encode() for each in self._known])


class Masker:
    """Masks secrets in bytes that come in pieces, also where one stands across two of them.

    Args:
        secrets: The secrets.
    """

    def __init__(self, secrets: list[bytes]):
        longest_first = sorted(secrets, key=len, reverse=True)
        self._longest = len(longest_first[0]) if secrets else 0
        self._pattern = re.compile(b"|".join(map(re.escape, longest_first))) if secrets else None
        self._left = b""

    def masked(self, piece: bytes) -> bytes:
        """Return what is safe of the bytes so far: a secret may go on in the next piece."""
        if self._pattern is None:
            return piece
        data = self._left + piece
        safe = max(0, len(data) - self._longest + 1)
        cut = max([safe, *(each.end() for each in self._pattern.finditer(data) if each.start() < safe)])
        self._left = data[cut:]
        return self._pattern.sub(MASK.encode(), data[:cut])

    def rest(self) -> bytes:
        """Return what is left after the last piece."""
        return self._left if self._pattern is None else self._pattern.sub(MASK.encode(), self._left)


def shown(url: str) -> str:
    """Return an address without what could be secret: user, password and parameters."""
    parts = urlsplit(without_user(url))
    return f"{parts.scheme}://{parts.netloc}{parts.path}"
