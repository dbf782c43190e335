"""Names of tables and columns: snake_case, at most 63 bytes, unique without regard to case."""

from __future__ import annotations

import hashlib
import re
import unicodedata
from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from functools import lru_cache

NAME_BYTES = 63
"""The longest name, in bytes of UTF-8: what PostgreSQL keeps."""
_DIGEST_LETTERS = 8
MOST_FILES = 0.8
"""Words that so great a share of the files' names begin with are what they have in common."""

_NOT_IN_NAMES = re.compile(r"[\W_]+")
_ENDINGS = re.compile(r"(\.[a-z0-9]{1,8})+$", re.IGNORECASE)
_NUMBERED_END = re.compile(r"([-_. ]+[0-9]+)+$|(?<=[^\W\d_])[0-9]{4,}$")


@lru_cache(20_000)
def snake_case(text: str) -> str:
    """Return `text` as lower-case words joined by `_`; letters of any script stay, all else goes.

    `berthName` and `Berth name` give `berth_name`, `IMONumber` gives `imo_number`. Empty if nothing is left.
    """
    composed = unicodedata.normalize("NFC", text)
    words = "".join(
        "_" + character if _starts_word(composed, index) else character
        for index, character in enumerate(composed)
    )
    return _NOT_IN_NAMES.sub("_", words).strip("_").lower()


def _starts_word(text: str, index: int) -> bool:
    """Say whether a capital letter begins a word: after a small one or a digit, or before a small one."""
    if not index or not text[index].isupper():
        return False
    before, after = text[index - 1], text[index + 1 : index + 2]
    return before.islower() or before.isdigit() or (before.isupper() and after.islower())


def shorten(name: str) -> str:
    """Return `name`, cut to `NAME_BYTES` bytes with a digest of the whole name at its end if it is longer."""
    raw = name.encode()
    if len(raw) <= NAME_BYTES:
        return name
    digest = hashlib.blake2b(raw, digest_size=_DIGEST_LETTERS // 2).hexdigest()
    return raw[: NAME_BYTES - _DIGEST_LETTERS - 1].decode(errors="ignore").rstrip("_") + "_" + digest


def _shorter(name: str) -> Iterator[str]:
    """Yield the first word of a name that is too long, or two and so on, with as many of its last as fit."""
    words = name.split("_")
    sizes = [len(word.encode()) + 1 for word in words]
    for count in range(1, len(words)):
        room = NAME_BYTES + 1 - sum(sizes[:count])
        last = len(words)
        while last > count and room >= sizes[last - 1]:
            last -= 1
            room -= sizes[last]
        if last < len(words):
            yield "_".join((*words[:count], *words[last:]))


class Names:
    """Hands out names that are unique without regard to case."""

    def __init__(self, taken: Iterable[str] = ()) -> None:
        self._taken = {name.casefold() for name in taken}

    def is_free(self, name: str) -> bool:
        """Say whether `name` can still be had."""
        return name.casefold() not in self._taken

    def claim(self, *words: str, otherwise: str) -> str:
        """Return a free name made of `words`; `otherwise` stands for words of which nothing is left.

        Where all words are too long, the first of them and as many of the last as there is room for stand for
        all, if that is free. A clash gets `_2`, `_3`, … at its end.
        """
        parts = [snake_case(word) for word in words]
        base = "_".join(part for part in parts if part) or otherwise
        if len(base.encode()) > NAME_BYTES:
            base = next(filter(self.is_free, _shorter(base)), base)
        name, number = shorten(base), 1
        while name.casefold() in self._taken:
            number += 1
            name = shorten(f"{base}_{number}")
        self._taken.add(name.casefold())
        return name

    def claim_of(self, table: str, name: str) -> str:
        """Return `name` if it is free, else one of the table's name and it: what has it already keeps it."""
        words = (name,) if self.is_free(name) else (table, name)
        return self.claim(*words, otherwise=name)


def name_of_sources(sources: Sequence[str]) -> str:
    """Return the name for the top table of some files: what their names have in common.

    That is, without endings, dates and numbers, the words in front that four of five have; else the name of
    the folder they are in; else `records`.
    """
    # Two parts of a path tell enough, and to take very many apart takes its time.
    tails = [source.rsplit("/" if "/" in source else "\\", 2)[-2:] for source in sources]
    counts = Counter(_name_of_stem(_ENDINGS.sub("", tail[-1])) for tail in tails)
    name = _shared_name(counts)
    if not name:
        folders = {tail[0] if len(tail) > 1 else "" for tail in tails}
        name = _name_of_stem(folders.pop()) if len(folders) == 1 else ""
    return shorten(name or "records")


def _shared_name(counts: Counter[str]) -> str:
    """Return the words in front that most of some names have in common; empty if there are none."""
    most = MOST_FILES * counts.total()
    shared: list[str] = []
    while True:
        heads: Counter[str] = Counter()
        for name, count in counts.items():
            heads["_".join(name.split("_")[: len(shared) + 1])] += count
        head, count = heads.most_common(1)[0]
        if count < most or not head or head == "_".join(shared):
            return "_".join(shared)
        shared = head.split("_")


def _name_of_stem(stem: str) -> str:
    name = snake_case(_NUMBERED_END.sub("", stem))
    return "" if name.isdigit() else name
