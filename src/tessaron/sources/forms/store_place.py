"""Where an object of a store stands: plain data, so that another process can open it."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class StorePlace:
    """An object of a store, as another process opens it.

    Attributes:
        url: The URL with which it was listed, with its user.
        path: Its path in the store.
        size: Its bytes.
    """

    url: str
    path: str
    size: int
