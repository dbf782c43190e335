"""Replacing values by others of the same look: letters by letters, digits by digits, dates by dates.

A value is always replaced by the same one, and different values by different ones, so that what repeats and
what joins still does. The replacement depends on a secret that nobody keeps.
"""

from __future__ import annotations

import datetime
import hashlib
import json
import re
import string
from dataclasses import dataclass, field
from typing import Any

from tessaron.core.base.json_text import json_text
from tessaron.core.base.parsed_values import NumberText, Pairs, Parsed
from tessaron.core.base.paths import ELEMENT, ENTRY
from tessaron.core.shape.shape_node import ShapeNode

_DATE = re.compile(r"(\d{4})-(\d\d)-(\d\d)(?:([T ])(\d\d):(\d\d)(?::(\d\d))?(.*))?\Z", re.DOTALL)
_DAY_FIRST = re.compile(r"(\d{1,2})([/.])(\d{1,2})\2(\d{4})\Z")
_UUID = re.compile(r"[0-9a-fA-F]{8}(-[0-9a-fA-F]{4}){3}-[0-9a-fA-F]{12}\Z")
_TRIES = 2_000
_OTHER_LOWER, _OTHER_UPPER = "àáâãäåæçèéêëìíîïñòóôõöøùúûüý", "ÀÁÂÃÄÅÆÇÈÉÊËÌÍÎÏÑÒÓÔÕÖØÙÚÛÜÝ"
_FIRST_DAY = datetime.date(1970, 1, 1).toordinal()
_DAYS = 365 * 60


@dataclass(slots=True)
class Mask:
    """Replaces values.

    Args:
        secret: What the replacements depend on, at least 16 random bytes.
    """

    secret: bytes
    _made: dict[str, str] = field(default_factory=dict)
    _taken: set[str] = field(default_factory=set)

    def value(self, value: Parsed, shape: ShapeNode | None = None) -> Parsed:
        """Return a parsed value with all scalars replaced, but for true, false and null.

        Args:
            value: A parsed value.
            shape: The settled shape of what stands there: where it has dictionaries their keys are replaced.
        """
        holder: list[Any] = [value]
        pending: list[tuple[Any, Any, ShapeNode | None]] = [(holder, 0, shape)]
        while pending:
            container, key, node = pending.pop()
            item = container[key]
            below = node.fold or node if node is not None else None
            if isinstance(item, (dict, Pairs)):
                made = container[key] = self._object(dict(item), below)
                pending.extend(
                    (made, name, _child(below, old)) for name, old in zip(made, dict(item), strict=True)
                )
            elif isinstance(item, list):
                container[key] = copied = list(item)
                inner = None if below is None else below.children.get(ELEMENT)
                pending.extend((copied, index, inner) for index in range(len(copied)))
            else:
                container[key] = self.scalar(item)
        return holder[0]

    def scalar(self, value: Parsed) -> Parsed:
        """Return the replacement of a scalar, of the same kind."""
        if isinstance(value, bool) or value is None:
            return value
        if isinstance(value, NumberText):
            return NumberText(self._replace("n" + value, _number))
        if isinstance(value, int):
            return int(self._replace(f"n{value}", _number))
        return self._text(str(value))

    def _object(self, members: dict[str, Parsed], node: ShapeNode | None) -> dict[str, Parsed]:
        if node is None or not node.is_dictionary:
            return members
        return {self._text(name): item for name, item in members.items()}

    def _text(self, text: str) -> str:
        if text[:1] in ("{", "[") and text[-1:] in ("}", "]"):
            try:
                parsed = json.loads(text, parse_float=NumberText)
            except (ValueError, RecursionError):
                parsed = None
            if parsed is not None:
                return json_text(self.value(parsed), ascii_only=False)
        return self._replace("t" + text, _looks_like(text))

    def _replace(self, key: str, look: Parsed) -> str:
        found = self._made.get(key)
        if found is None:
            found = self._made[key] = self._new(key, look)
        return found

    def _new(self, key: str, look: Parsed) -> str:
        """Return a replacement that no other value has, as long as there is one."""
        for attempt in range(_TRIES):
            made = str(look(key[1:], _Random(self.secret, f"{attempt}:{key}")))
            if key[0] + made not in self._taken:
                self._taken.add(key[0] + made)
                return made
        return made


def _child(node: ShapeNode | None, name: str) -> ShapeNode | None:
    if node is None:
        return None
    if node.is_dictionary:
        return node.children.get(ENTRY)
    element = node.children.get(ELEMENT) if node.is_lifted else None
    return element.children.get(name) if element is not None else node.children.get(name)


class _Random:
    """Numbers that follow from the secret and a value (BLAKE2b with a key, RFC 7693, in counter mode)."""

    def __init__(self, secret: bytes, text: str):
        self._secret, self._text = secret[:64], text.encode("utf-8", "surrogatepass")
        self._block = 0
        self._numbers: list[int] = []

    def below(self, limit: int) -> int:
        """Return a number from 0, below the limit."""
        if not self._numbers:
            data = self._block.to_bytes(8, "little") + self._text
            digest = hashlib.blake2b(data, key=self._secret).digest()
            self._block += 1
            self._numbers = [int.from_bytes(digest[at : at + 4], "little") for at in range(0, 64, 4)]
        return self._numbers.pop() % limit


def _looks_like(text: str) -> object:
    if _UUID.match(text):
        return _uuid
    found = _DATE.match(text)
    if found and _is_date(found.group(1), found.group(2), found.group(3)):
        return _date
    found = _DAY_FIRST.match(text)
    return _day_first if found else _letters


def _is_date(year: str, month: str, day: str) -> bool:
    try:
        datetime.date(int(year), int(month), int(day))
    except ValueError:
        return False
    return True


def _letters(text: str, random: _Random) -> str:
    return "".join(_character(character, random) for character in text)


def _character(character: str, random: _Random) -> str:
    for letters in (string.ascii_lowercase, string.ascii_uppercase, string.digits):
        if character in letters:
            return letters[random.below(len(letters))]
    if character.isascii() or not character.isalpha():
        return character
    letters = _OTHER_UPPER if character.isupper() else _OTHER_LOWER
    return letters[random.below(len(letters))]


def _number(text: str, random: _Random) -> str:
    """Return a number of as many digits; the first of several is 1 to 8, so that it stays in range."""
    mantissa, mark, exponent = re.match(r"([-0-9.]+)([eE]?)(.*)", text).groups()  # type: ignore[union-attr]
    digits = [str(random.below(10)) if character.isdigit() else character for character in mantissa]
    first = next(index for index, character in enumerate(mantissa) if character.isdigit())
    is_zero = mantissa[first] == "0"
    whole = len(mantissa[first:].partition(".")[0])
    if is_zero and "." in mantissa:
        digits[first] = "0"
    elif whole > 1 or mantissa[0] == "-" or "." in mantissa:
        digits[first] = str(1 + random.below(8))
    return "".join(digits) + mark + exponent


def _uuid(text: str, random: _Random) -> str:
    letters = "0123456789ABCDEF" if text.upper() == text else "0123456789abcdef"
    return "".join(letters[random.below(16)] if character != "-" else "-" for character in text)


def _date(text: str, random: _Random) -> str:
    made = datetime.date.fromordinal(_FIRST_DAY + random.below(_DAYS)).isoformat()
    *_, separator, hour, _minute, second, rest = _DATE.match(text).groups()  # type: ignore[union-attr]
    if hour is None:
        return made
    clock = f"{random.below(24):02}:{random.below(60):02}"
    if second is None:
        return made + separator + clock + rest
    clock += f":{random.below(60):02}"
    fraction = re.match(r"(\.\d+)?(.*)", rest, re.DOTALL)
    assert fraction is not None
    return made + separator + clock + _letters(fraction.group(1) or "", random) + fraction.group(2)


def _day_first(text: str, random: _Random) -> str:
    """Return a date in which day and month are of as many digits, and no larger than months are."""
    first, mark, second, _ = _DAY_FIRST.match(text).groups()  # type: ignore[union-attr]
    made = [
        f"{random.below(9) + 1}" if len(part) == 1 else f"{random.below(12) + 1:02}"
        for part in (first, second)
    ]
    return f"{made[0]}{mark}{made[1]}{mark}{1970 + random.below(60)}"
