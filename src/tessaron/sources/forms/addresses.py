"""Addresses with user and password in them (RFC 3986, section 3.2.1), and how they are shown: without."""

from __future__ import annotations

import re

from tessaron.core.base.errors import UsageError

_ADDRESS = re.compile(r"([A-Za-z][A-Za-z0-9+.-]*://)([^/?#]*)(.*)", re.DOTALL)
_HAS_PORT = re.compile(r"[^:]*(:\d*)?|\[[^]]*\](:\d*)?")


def without_user(address: str) -> str:
    """Return an address without user and password, also where these are not encoded as they ought to be."""
    found = _ADDRESS.match(address)
    if found is None:
        return address
    scheme, place, rest = found.groups()
    if _is_broken(place, rest):
        return f"{scheme}{rest.rpartition('@')[2]}"
    return f"{scheme}{place.rpartition('@')[2]}{rest}"


def check_user(address: str) -> None:
    """Check that user and password of an address end where they seem to.

    Raises:
        UsageError: When a `/`, `?` or `#` stands in them; what follows it would be told with other faults.
    """
    found = _ADDRESS.match(address)
    if found is not None and _is_broken(found[2], found[3]):
        said = "user or password have a / ? or # in them; write these as %2F, %3F, %23"
        raise UsageError(f"{without_user(address)}: {said}")


def _is_broken(place: str, rest: str) -> bool:
    return "@" not in place and "@" in rest and _HAS_PORT.fullmatch(place) is None
