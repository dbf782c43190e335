"""XPath 1.0 expressions as they are given: checked, and taken apart where they are plain child paths."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from tessaron.core.base.errors import UsageError
from tessaron.core.base.visible import in_quotes
from tessaron.core.markup.namespaces import Prefixes
from tessaron.core.markup.record_path import ANY_ROOT, NameTest, RecordPath, parse_name_test

_NAME = r"[^\W\d][\w.-]*"
_STEP = re.compile(rf"/(?:child::)?((?:{_NAME}:)?(?:{_NAME}|\*))")
_POSITIONAL = re.compile(
    r"\b(?:position|last|id|key)\s*\(|\.\.|\b(?:ancestor|ancestor-or-self|preceding|preceding-sibling|following"
    r"|following-sibling|parent)\s*::"
)
_ABSOLUTE = re.compile(r"(?:^|[\[(,=<>|+*-]|\b(?:and|or|div|mod))\s*/")
_PREFIX = re.compile(rf"({_NAME}):(?=[^\W\d*]|\*)(?!:)")
_QUOTED = re.compile(r"\"[^\"]*\"|'[^']*'")
_LAST_NAME = re.compile(rf"(?:^|[/:])({_NAME})(?:\[[^\]]*\])*\s*$")


@dataclass(frozen=True, slots=True)
class LocationPath:
    """An expression that says where something stands.

    Attributes:
        text: The expression.
        steps: The names of a plain child path from the root; empty for any other.
        predicates: What follows the last of them, brackets included, if it says the same of each record by
            itself.
    """

    text: str
    steps: tuple[str, ...] = ()
    predicates: str = ""

    @property
    def is_streamed(self) -> bool:
        """Whether tags alone tell where it leads, so that no document has to be held as a whole."""
        return bool(self.steps)

    def record_path(self, prefixes: Prefixes) -> RecordPath:
        """Return where records stand; for what is not streamed, the whole documents.

        Raises:
            UsageError: When a prefix stands for no namespace.
        """
        if not self.steps:
            return ANY_ROOT
        return RecordPath(tuple(_test(step, self.text, prefixes) for step in self.steps), self.predicates)

    def last_name(self) -> str | None:
        """Return the name of what the path leads to, without prefix; None if there is none."""
        if self.steps:
            local = self.steps[-1].rpartition(":")[2]
            return None if local == "*" else local
        found = _LAST_NAME.search(self.text)
        return found.group(1) if found else None


def parse_location(text: str) -> LocationPath:
    """Return the expression that `text` spells (XPath 1.0).

    Raises:
        UsageError: When it is none.
    """
    check_expression(text)
    at, steps = 0, []
    while found := _STEP.match(text, at):
        steps.append(found.group(1))
        at = found.end()
    rest = text[at:].strip()
    if not steps or (rest and not (rest.startswith("[") and _is_local(rest))):
        return LocationPath(text)
    return LocationPath(text, tuple(steps), rest)


def _is_local(predicates: str) -> bool:
    """Say whether predicates can be evaluated on an element by itself, wherever it stands."""
    plain = _QUOTED.sub("''", predicates)
    if _POSITIONAL.search(plain) or _ABSOLUTE.search(plain) or _tail_of(plain):
        return False
    # A predicate that is a number is a position.
    return not any(isinstance(_tried(inner), float) for inner in _parts(predicates))


def gives_nodes(text: str) -> bool:
    """Say whether an expression is a path, and gives neither a text, number nor boolean."""
    return isinstance(_tried(text), list)


def _tried(text: str) -> object:
    """Return what an expression gives for an element without anything: its type is the same for all.

    Raises:
        UsageError: When it cannot be evaluated, for instance as it has a function that there is not.
    """
    from lxml import etree

    namespaces = {prefix: f"urn:{prefix}" for prefix in prefixes_in(text)}
    try:
        return etree.XPath(text, namespaces=namespaces)(etree.Element("lone"))
    except etree.XPathEvalError as error:
        raise UsageError(f"{in_quotes(text)} cannot be evaluated: {error}") from error


def _tail_of(predicates: str) -> str:
    """Return what follows the predicates."""
    depth = 0
    for at, letter in enumerate(predicates):
        depth += (letter == "[") - (letter == "]")
        if depth == 0 and letter not in "] \t\r\n":
            return predicates[at:]
    return ""


def _parts(predicates: str) -> list[str]:
    """Return the expressions in the brackets."""
    found, depth, start, quote = [], 0, 0, ""
    for at, letter in enumerate(predicates):
        if quote:
            quote = "" if letter == quote else quote
        elif letter in "\"'":
            quote = letter
        elif letter == "[":
            depth += 1
            start = at + 1 if depth == 1 else start
        elif letter == "]":
            depth -= 1
            if depth == 0:
                found.append(predicates[start:at])
    return found


def check_expression(text: str) -> None:
    """Check that a text is an expression of XPath 1.0.

    Raises:
        UsageError: When it is none.
    """
    from lxml import etree

    try:
        etree.XPath(text)
    except (etree.XPathSyntaxError, ValueError) as error:
        raise UsageError(f"expected an expression of XPath 1.0, got {in_quotes(text)}: {error}") from error


def prefixes_in(text: str) -> list[str]:
    """Return the prefixes that an expression uses, axes aside."""
    return list(dict.fromkeys(_PREFIX.findall(_QUOTED.sub("''", text))))


def check_prefixes(text: str, namespaces: Mapping[str, str]) -> None:
    """Check that every prefix of an expression stands for a namespace.

    Raises:
        UsageError: With the first that does not, and those that do.
    """
    for prefix in prefixes_in(text):
        if prefix not in namespaces and prefix != "xml":
            raise unknown_prefix(prefix, text, namespaces)


def unknown_prefix(prefix: str, text: str, namespaces: Mapping[str, str]) -> UsageError:
    """Return the error for a prefix that stands for nothing."""
    known = ", ".join(f"{each} ({namespace})" for each, namespace in list(namespaces.items())[:5])
    there = f"there are {known}" if known else "no namespace is declared in the documents"
    return UsageError(
        f"the prefix {in_quotes(prefix)} in {in_quotes(text)} stands for no namespace; {there}; "
        f"or give it one with "
        f"--namespace {prefix}=…"
    )


def _test(step: str, text: str, prefixes: Prefixes) -> NameTest:
    known: dict[str, Any] = {prefix: space for space, prefix in prefixes.by_namespace().items()}
    try:
        return parse_name_test(step, known)
    except KeyError as error:
        raise unknown_prefix(str(error.args[0]), text, prefixes.by_prefix()) from None
