"""Documents as lines, one for each scalar with its full place; and documents made of such lines again."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from typing import Any, NoReturn

from tessaron.core.base.errors import Code, DataError, Place, UsageError
from tessaron.core.base.json_text import json_text
from tessaron.core.base.parsed_values import Pairs, Parsed
from tessaron.core.base.paths import Location, format_location, quote_name
from tessaron.core.base.visible import in_quotes
from tessaron.core.kernel.careful_json import FaultError, parse_carefully
from tessaron.core.query.jsonpath import parse_path
from tessaron.core.query.jsonpath_syntax import Index, NameSelector, Query

_STEP = re.compile(r"\[(?:'([^'\\]*)'|(0|[1-9][0-9]{0,15}))\]")


def value_lines(document: Parsed, below: Location = ()) -> Iterator[str]:
    """Yield a line for each scalar and each empty array or object: normalized path, a tab, the value as JSON.

    Args:
        document: A parsed document.
        below: What its paths begin with.
    """
    pending: list[tuple[str, Any]] = [(format_location(below), document)]
    while pending:
        path, value = pending.pop()
        if isinstance(value, (dict, Pairs)) and value:
            members = value.items() if isinstance(value, dict) else value
            pending.extend(reversed([(path + quote_name(name), item) for name, item in members]))
        elif isinstance(value, list) and value:
            pending.extend(reversed([(f"{path}[{index}]", item) for index, item in enumerate(value)]))
        else:
            yield f"{path}\t{json_text(value, ascii_only=False)}"


@dataclass(slots=True, eq=False)
class _Branch:
    """A value under construction.

    Attributes:
        line: The line that spoke of it first.
        kind: `object`, `array`, `scalar`, or empty while nothing is known.
        value: A scalar's value.
        children: By name, or by index as it is written.
    """

    line: int
    kind: str = ""
    value: Any = None
    children: dict[str | int, _Branch] = field(default_factory=dict)


class Composer:
    """Puts lines together to the document they describe.

    Args:
        source: Where the lines come from, for messages.
    """

    def __init__(self, source: str):
        self._source = source
        self._root = _Branch(0)
        self._line = 0
        self._last: tuple[list[str | int], list[_Branch]] = ([], [self._root])

    def add(self, text: str) -> None:
        """Take in the next line; blank lines are passed over.

        Raises:
            DataError: When it is no path, tab and JSON, or contradicts an earlier line.
        """
        self._line += 1
        text = text.rstrip("\r\n")
        if not text.strip():
            return
        path, tab, value = text.partition("\t")
        if not tab:
            self._fail("expected a path, a tab and a value as JSON, found no tab")
        self._put(self._location(path), self._value(value), path)

    def document(self) -> Parsed:
        """Return the document of all lines; gaps in arrays are closed.

        Raises:
            DataError: When there was no line.
        """
        if not self._root.kind:
            raise DataError(
                "no lines; expected what `tessaron values` prints", Place(self._source), Code.EMPTY
            )
        holder: list[Any] = [None]
        pending: list[tuple[Any, Any, _Branch]] = [(holder, 0, self._root)]
        while pending:
            container, key, branch = pending.pop()
            if branch.kind == "scalar":
                container[key] = branch.value
            elif branch.kind == "object":
                made: dict[str, Any] = dict.fromkeys(map(str, branch.children))
                container[key] = made
                pending.extend((made, name, child) for name, child in branch.children.items())
            else:
                ordered = [branch.children[index] for index in sorted(branch.children, key=int)]
                container[key] = elements = [None] * len(ordered)
                pending.extend((elements, index, child) for index, child in enumerate(ordered))
        return holder[0]

    def _location(self, path: str) -> list[str | int]:
        steps: list[str | int] = []
        at = 1
        while path.startswith("$") and (found := _STEP.match(path, at)):
            steps.append(found.group(1) if found.group(2) is None else int(found.group(2)))
            at = found.end()
        return steps if at == len(path) and path[:1] == "$" else self._careful_location(path)

    def _careful_location(self, path: str) -> list[str | int]:
        try:
            parsed = parse_path(path)
        except UsageError as error:
            self._fail(str(error))
        selectors = [segment.selectors[0] for segment in parsed.segments]
        if not Query(parsed.segments, from_root=True).is_singular() or any(
            isinstance(selector, Index) and selector.index < 0 for selector in selectors
        ):
            self._fail(f"expected a path to one value, of names and indices from 0, found {path}")
        names_or_indices: list[str | int] = []
        for selector in selectors:
            assert isinstance(selector, (NameSelector, Index))
            names_or_indices.append(selector.name if isinstance(selector, NameSelector) else selector.index)
        return names_or_indices

    def _value(self, text: str) -> Parsed:
        text = text.strip(" ")
        try:
            value, end = parse_carefully(text, 0, "line")
        except FaultError as error:
            self._fail(f"the value is no JSON: {error.fault.reason}")
        if text[end:].strip():
            self._fail(f"expected one value behind the tab, found more: {in_quotes(text[end:].strip()[:20])}")
        return value

    def _put(self, steps: list[str | int], value: Parsed, path: str) -> None:
        branch = self._walk(steps, path)
        if isinstance(value, (Pairs, dict, list)):
            self._put_container(branch, value, path)
            return
        if branch.kind:
            self._conflict(path, branch, "a value" if branch.kind == "scalar" else f"an {branch.kind}")
        branch.kind, branch.value, branch.line = "scalar", value, self._line

    def _put_container(self, branch: _Branch, value: Parsed, path: str) -> None:
        pending = [(branch, value)]
        while pending:
            here, item = pending.pop()
            if isinstance(item, (Pairs, dict)):
                self._be(here, "object", path)
                items: Iterable[tuple[str | int, Any]] = item.items() if isinstance(item, dict) else item
            elif isinstance(item, list):
                self._be(here, "array", path)
                items = enumerate(item)
            else:
                if here.kind:
                    self._conflict(path, here, f"a value or an {here.kind}")
                here.kind, here.value = "scalar", item
                continue
            for key, inner in items:
                pending.append((here.children.setdefault(key, _Branch(self._line)), inner))

    def _walk(self, steps: list[str | int], path: str) -> _Branch:
        """Return the branch at a location; lines mostly go on where the one before was."""
        before, branches = self._last
        same = 0
        while same < min(len(before), len(steps)) and before[same] == steps[same]:
            same += 1
        del branches[same + 1 :]
        for step in steps[same:]:
            here = branches[-1]
            self._be(here, "object" if isinstance(step, str) else "array", path)
            branch = here.children.get(step)
            if branch is None:
                branch = here.children[step] = _Branch(self._line)
            branches.append(branch)
        self._last = (steps, branches)
        return branches[-1]

    def _be(self, branch: _Branch, kind: str, path: str) -> None:
        if not branch.kind:
            branch.kind, branch.line = kind, self._line
        elif branch.kind != kind:
            what = "a value" if branch.kind == "scalar" else f"an {branch.kind}"
            self._conflict(path, branch, what)

    def _conflict(self, path: str, branch: _Branch, what: str) -> None:
        self._fail(f"{path} does not go with line {branch.line}, by which there is {what} already; drop one")

    def _fail(self, reason: str) -> NoReturn:
        raise DataError(reason, Place(self._source, line=self._line), Code.LINES)
