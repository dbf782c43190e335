"""Half surrogates: escapes of JSON that stand for no character, which UTF-8 cannot hold (RFC 8259, 8.2).

A half surrogate is spelled out as its escape of six characters, in small letters. Where it is to be told from
a text that only looks like one, backslashes before either are doubled, and one more stands before the half:
an odd number of them belongs to a half, an even one to a text.
"""

from __future__ import annotations

import re

_HALF_OR_LIKE = re.compile(r"(?P<slashes>\\*)(?:(?P<half>[\ud800-\udfff])|(?<=\\)(?=ud[89a-f][0-9a-f]{2}))")
_TOLD = re.compile(r"(\\+)u(d[89a-f][0-9a-f]{2})")


def spell_halves(text: str) -> str:
    """Return a text with each half surrogate as its escape of six characters."""
    return text.encode("utf-8", "backslashreplace").decode()


def tell_halves(text: str) -> str:
    """Return a text with its half surrogates spelled out and told from what looks like one."""
    return _HALF_OR_LIKE.sub(_spell, text)


def read_halves(told: str) -> str:
    """Return the text of which `tell_halves` made this one."""
    return _TOLD.sub(_read, told) if "\\u" in told else told


def _spell(found: re.Match[str]) -> str:
    doubled, half = found.group("slashes") * 2, found.group("half")
    return doubled if half is None else f"{doubled}\\u{ord(half):04x}"


def _read(found: re.Match[str]) -> str:
    slashes, code = len(found.group(1)), found.group(2)
    return "\\" * (slashes // 2) + (chr(int(code, 16)) if slashes % 2 else f"u{code}")


def has_half(told: str) -> bool:
    """Say whether a text that `tell_halves` returned has half a surrogate."""
    return any(len(found.group(1)) % 2 for found in _TOLD.finditer(told))
