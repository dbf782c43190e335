"""Paths inside a record: tuples of steps, printed as JSONPath (RFC 9535) or XPath 1.0 only when shown.

A step to a part of an XML document is the step of XPath behind `MARKUP`, a letter that no XML name has:
an element `m:weight`, an attribute `@unit`, the text `text()`. So a path says itself how it is spelled.
"""

from __future__ import annotations

import re
from enum import Enum
from typing import Final

from tessaron.core.base.surrogates import read_halves, tell_halves


class Each(Enum):
    """The steps that open a level: to each element of an array, to each member of a dictionary."""

    ELEMENT = "[*]"
    ENTRY = ".*"


class Origin(Enum):
    """What is known of a row besides its values; the last step of the path of such a column."""

    KEY = "key"
    """The name of the member, for a row that is a member of a dictionary."""
    FILE = "origin_file"
    RECORD = "origin_record"
    LINE = "origin_line"
    NUMBER = "origin_document"
    """The number of the document among all that were read, from 1, for records of XML."""
    DOCUMENT = "document_key"
    """The number of the document, from 1, for records inside an envelope."""
    ENCLOSING = "enclosing_key"
    """The row of the element that a record of XML stands in, where documents have several of them."""
    ENCLOSING_2 = "enclosing_key_2"
    """The row of the element around that one, and so on outwards."""
    ENCLOSING_3 = "enclosing_key_3"
    ENCLOSING_4 = "enclosing_key_4"
    ENCLOSING_5 = "enclosing_key_5"
    ENCLOSING_6 = "enclosing_key_6"
    WITHIN = "within_key"
    """The row of the same table it stands in, for a row of a structure that contains itself."""
    THROUGH = "through_key"
    """The row of the table between, where that structure contains itself through another array."""
    WAY = "within_path"
    """The way from the row it stands in, where such a structure contains itself in several places."""
    ELEMENT = "element"
    """The name of a record's element, where records of XML have several."""
    CONTENT = "content"
    """The digest of a record's text."""
    JSON = "json"
    """All that stands at a path, as JSON text."""
    REST = "row_rest"
    """What the columns of a row do not tell of what stands there, as JSON; see `tables.row_rests`."""
    ORDER = "order"
    """The order of what stands in an element of XML, where its parts are not in the order of their names."""
    DEPTH = "depth"
    """How deep a row of a structure that contains itself stands in it, from 1."""


ELEMENT: Final = Each.ELEMENT
ENTRY: Final = Each.ENTRY
ENCLOSING: Final = tuple(each for each in Origin if each.name.startswith("ENCLOSING"))
"""The rows of the elements that a record stands in, from the innermost outwards."""
Step = str | Each | Origin
Path = tuple[Step, ...]
"""Steps from the record down: a member name, `ELEMENT`, `ENTRY`, or at the end an `Origin`."""
Location = tuple[str | int, ...]
"""The way to one value: names of members and indices of elements, from 0."""

MARKUP: Final = "\x1f"
"""The letter before the name of every step that leads to a part of an XML document."""
ABOVE: Final = MARKUP + "../"
"""How steps begin that lead to something of the elements around a record."""
RECORD_STEP: Final = "."
"""How the record itself is spelled in XPath."""
TEXT_STEP: Final = MARKUP + "text()"
"""The step to the text of an element beside its attributes and elements."""

_STEPS_SHOWN = 100
_SHORTHAND = re.compile(r"[^\x00-@\[-^`{-\x7f][^\x00-/:-@\[-^`{-\x7f]*\Z")
_PLAIN = re.compile(r"[^\x00-\x1f'\\]*\Z")
_ESCAPES = {"\b": r"\b", "\t": r"\t", "\n": r"\n", "\f": r"\f", "\r": r"\r", "'": r"\'", "\\": r"\\"}


def format_path(path: Path) -> str:
    """Return `path` whole, as JSONPath, e.g. `$.stays[*]['berth no']` (RFC 9535, names escaped as in 2.7).

    What is no value of the document is named before it: `key of $.by_day.*`. A path in an XML document is
    printed as XPath 1.0 from the record, e.g. `stays/stay/@no`: repetition needs no mark there. No two paths
    have one spelling, so that it can stand for the path; for people there is `show_path`.
    """
    if path and isinstance(path[-1], Origin):
        return f"{path[-1].value} of {format_path(path[:-1])}"
    if is_markup(path):
        return "/".join(_markup_steps(path))
    return "$" + "".join(map(_format_step, path))


def show_path(path: Path) -> str:
    """Return `path` for people: as `format_path` does, but of very many steps only the first."""
    if path and isinstance(path[-1], Origin):
        return f"{path[-1].value} of {show_path(path[:-1])}"
    if is_markup(path):
        steps = _markup_steps(path)
        more = len(steps) - _STEPS_SHOWN
        return "/".join(steps[:_STEPS_SHOWN]) + (f"/…({more:,} more steps)" if more > 0 else "")
    if len(path) > _STEPS_SHOWN:
        middle = len(path) - _STEPS_SHOWN + 1
        return f"{format_path(path[: _STEPS_SHOWN - 1])}…({middle:,} more steps)"
    return format_path(path)


def is_markup(path: Path) -> bool:
    """Say whether a path leads to a part of an XML document."""
    return any(isinstance(step, str) and is_markup_step(step) for step in path[:2])


def is_markup_step(step: str) -> bool:
    """Say whether a step leads to a part of an XML document; before a name of JSON the mark stands twice."""
    return step.startswith(MARKUP) and not step.startswith(MARKUP, 1)


def step_of_name(name: str) -> str:
    """Return the step to the member of a JSON object; `name_of_step` turns it back.

    Nearly always it is the name itself. Half surrogates are told from what looks like one (see `surrogates`);
    a name that begins with `MARKUP` gets it once more. So no two names have one step, and none has that of a
    part of XML.
    """
    if name.isascii() and "\\" not in name and name[:1] != MARKUP:
        return name
    step = tell_halves(name)
    return MARKUP + step if step[:1] == MARKUP else step


def kept_name(step: str) -> str:
    """Return a step to a member as tables keep it: in XML the name alone, in JSON what tells names apart."""
    return plain_name(step) if is_markup_step(step) else step


def name_of_step(step: str) -> str:
    """Return the name of the member of a JSON object to which a step leads; see `step_of_name`."""
    name = step[1:] if step.startswith(MARKUP) else step
    return read_halves(name)


def markup_path(text: str) -> Path:
    """Return the steps of a path in XML as `format_path` shows it, without those to each element."""
    return tuple(MARKUP + step for step in text.split("/"))


def plain_name(step: str) -> str:
    """Return the name of a step without the mark of XML, or what stands for it in JSON."""
    return step[1:] if step.startswith(MARKUP) else step


def local_name(step: str) -> str:
    """Return the name of a step without prefix and `@`, as columns are named; empty for the text step.

    A name of JSON is returned as it is.
    """
    if not is_markup_step(step):
        return plain_name(step)
    return "" if step == TEXT_STEP else step.rpartition(":")[2].lstrip(MARKUP + "@")


def qualified_name(step: str) -> str:
    """Return the name of a step with its prefix, if it has one, but without `@`."""
    return local_name(step) if ":" not in step or not is_markup_step(step) else step[1:].lstrip("@")


def _markup_steps(path: Path) -> list[str]:
    return [plain_name(step) if isinstance(step, str) else "*" for step in path if step is not ELEMENT]


def _format_step(step: Step) -> str:
    if not isinstance(step, str):
        return str(step.value)
    if _SHORTHAND.match(step):
        return "." + step
    return quote_name(plain_name(step))


def format_location(location: Location) -> str:
    """Return a normalized path, e.g. `$['stays'][0]['berth no']` (RFC 9535 section 2.7)."""
    return "$" + "".join(f"[{step}]" if isinstance(step, int) else quote_name(step) for step in location)


def quote_name(name: str) -> str:
    """Return the step to a member as a normalized path spells it, e.g. `['berth no']`."""
    if _PLAIN.match(name):
        return f"['{name}']"
    return "['" + "".join(map(_escape, name)) + "']"


def _escape(character: str) -> str:
    if character in _ESCAPES:
        return _ESCAPES[character]
    return f"\\u{ord(character):04x}" if character < " " else character


def level_of(path: Path) -> Path:
    """Return the level on which what stands at a path belongs: its part up to the last step to each."""
    for count in range(len(path), 0, -1):
        if isinstance(path[count - 1], Each):
            return path[:count]
    return ()
