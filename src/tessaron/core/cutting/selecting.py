"""Which paths of the records are parsed; the rest is passed over and only counted."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from fnmatch import translate
from itertools import count
from typing import Protocol

from tessaron.core.base.errors import UsageError
from tessaron.core.base.paths import ELEMENT, ENTRY, Origin, Path, Step, is_markup, local_name, plain_name
from tessaron.core.base.visible import in_quotes
from tessaron.core.tape.gathering import Gathered

SCALARS, RAW, INSIDE = 1, 2, 4
"""What is wanted at a path, as flags: the scalars, all of it as JSON text, what stands inside."""
NOTHING = 0


class Selection(Protocol):
    """Says what is wanted; a place in the structure is a number, the record is 0."""

    def step(self, place: int, step: Step) -> int:
        """Return the place one step on; -1 where nothing is wanted."""

    def wanted(self, place: int) -> int:
        """Return the flags of a place."""

    def is_level(self, place: int) -> bool:
        """Say whether it is known that elements stand here, be it a single one."""


@dataclass(slots=True)
class _Place:
    flags: int = NOTHING
    children: dict[Step, int] = field(default_factory=dict)
    everything: bool = False


class PathSelection:
    """What the tables and columns of a layout need: known paths, and whole subtrees.

    Args:
        columns: Paths whose scalars are wanted; one that ends with `Origin.JSON` is wanted as text.
        levels: Paths whose elements or entries are wanted as rows.
        subtrees: Paths below which everything is wanted.
        again: Where a structure that contains itself stands again, with where it begins.
    """

    def __init__(
        self,
        columns: Iterable[Path],
        levels: Iterable[Path] = (),
        subtrees: Iterable[Path] = (),
        again: Mapping[Path, Path] | None = None,
    ):
        self._places = [_Place(INSIDE)]
        for path in columns:
            if path and path[-1] is Origin.JSON:
                self._places[self._grow(path[:-1])].flags |= RAW
            else:
                # Of XML it is to be seen, too, where there are several elements instead of one.
                self._places[self._grow(path)].flags |= SCALARS | (INSIDE if is_markup(path) else NOTHING)
        for path in levels:
            self._places[self._grow(path)].flags |= INSIDE
        for path in subtrees:
            place = self._places[self._grow(path)]
            place.flags, place.everything = place.flags | SCALARS | INSIDE, True
        for path, begins in (again or {}).items():
            inner, outer = self._places[self._grow(path)], self._places[self._grow(begins)]
            inner.flags, inner.children = inner.flags | INSIDE, outer.children
        self._spread()

    def _spread(self) -> None:
        """Want everything below places of which everything is wanted."""
        pending = [place for place in self._places if place.everything]
        seen: set[int] = set()
        while pending:
            place = pending.pop()
            if id(place) in seen:
                continue
            seen.add(id(place))
            place.flags, place.everything = place.flags | SCALARS | INSIDE, True
            pending += [self._places[index] for index in place.children.values()]
        for place in self._places:
            # An object where arrays stand is an element: its text is wanted as the text of one.
            if ELEMENT in place.children:
                place.flags |= self._places[place.children[ELEMENT]].flags & RAW

    def _grow(self, path: Path) -> int:
        place = 0
        for step in path:
            if isinstance(step, Origin):
                break
            self._places[place].flags |= INSIDE
            children = self._places[place].children
            if step not in children:
                children[step] = len(self._places)
                self._places.append(_Place())
            place = children[step]
        return place

    def step(self, place: int, step: Step) -> int:
        """Return the place one step on; -1 where nothing is wanted."""
        here = self._places[place]
        found = here.children.get(step)
        if found is None and isinstance(step, str):
            if ENTRY in here.children:
                found = here.children[ENTRY]
            elif ELEMENT in here.children:
                # An object where arrays stand counts as an element.
                return self.step(here.children[ELEMENT], step)
        if found is not None:
            return found
        return self._below_everything(place) if here.everything else -1

    def _below_everything(self, place: int) -> int:
        return place if not self._places[place].children else self._everything()

    def _everything(self) -> int:
        last = self._places[-1]
        if not (last.everything and not last.children):
            self._places.append(_Place(SCALARS | INSIDE, {}, True))
        return len(self._places) - 1

    def wanted(self, place: int) -> int:
        """Return the flags of a place."""
        return self._places[place].flags

    def is_level(self, place: int) -> bool:
        """Say whether rows of the layout stand here, be it a single one."""
        return ELEMENT in self._places[place].children


class SelectionBelow:
    """A selection as it is for documents that stand at a path: in the texts there.

    Args:
        selection: The selection of the records.
        path: Where the documents stand.
        mark: What their names have in front in the records; see `paths.MARKUP`.
    """

    def __init__(self, selection: Selection, path: Path, mark: str = ""):
        self._mark = mark
        place = 0
        for step in path:
            place = selection.step(place, step) if place >= 0 else -1
        self._selection, self._top = selection, place

    def step(self, place: int, step: Step) -> int:
        """Return the place one step on; -1 where nothing is wanted."""
        at = place or self._top
        named = self._mark + step if isinstance(step, str) else step
        return self._selection.step(at, named) if at >= 0 else -1

    def wanted(self, place: int) -> int:
        """Return the flags of a place."""
        at = place or self._top
        return self._selection.wanted(at) if at >= 0 else NOTHING

    def is_level(self, place: int) -> bool:
        """Say whether rows of the layout stand here, be it a single one."""
        at = place or self._top
        return at >= 0 and self._selection.is_level(at)


class UngatheredSelection:
    """A selection as it is for documents before the nodes of trees come together; see `tape.gathering`.

    Args:
        selection: What is wanted once they have.
        trees: The trees.
    """

    def __init__(self, selection: Selection, trees: Sequence[Gathered]):
        self._selection, self._trees = selection, trees
        start = (0, tuple(_Way(tree, 0) for tree in trees))
        self._places: dict[int, tuple[int, tuple[_Way, ...]]] = {0: start}
        self._known: dict[tuple[int, Step], int] = {}
        self._numbers: dict[tuple[int, tuple[_Way, ...]], int] = {start: 0}
        self._next = count(1)

    def step(self, place: int, step: Step) -> int:
        """Return the place one step on; -1 where nothing is wanted."""
        found = self._known.get((place, step))
        if found is not None:
            return found
        # Several threads may come here at once; what the first of them has found stays.
        return self._known.setdefault((place, step), self._step(place, step))

    def _step(self, place: int, step: Step) -> int:
        at, ways = self._places[place]
        tree = next((way.tree for way in ways if way.is_node()), None)
        if tree is not None and isinstance(step, str) and step not in tree.fields:
            at = self._selection.step(at, tree.path[-1])
            onward: tuple[_Way, ...] = (_Way(tree, len(tree.root)),)
        elif tree is not None and step is ELEMENT:
            onward = ways
        else:
            onward = tuple(way.next() for way in ways if not way.is_node() and way.leads(step))
        at = self._selection.step(at, step) if at >= 0 else -1
        if at < 0:
            return -1
        number = self._numbers.setdefault((at, onward), next(self._next))
        self._places[number] = (at, onward)
        return number

    def wanted(self, place: int) -> int:
        """Return the flags of a place."""
        return self._selection.wanted(self._places[place][0])

    def is_level(self, place: int) -> bool:
        """Say whether rows of the layout stand here, be it a single one."""
        return self._selection.is_level(self._places[place][0])


@dataclass(frozen=True, slots=True)
class _Way:
    """How many steps of the way to the outermost node of a tree are gone."""

    tree: Gathered
    gone: int

    def is_node(self) -> bool:
        return self.gone == len(self.tree.root)

    def leads(self, step: Step) -> bool:
        here = self.tree.root[self.gone]
        return here == step or (here is ENTRY and isinstance(step, str))

    def next(self) -> _Way:
        return _Way(self.tree, self.gone + 1)


class PatternSelection:
    """What patterns ask for, when there is no layout.

    A pattern with `$` in front is a path, and takes all below it; any other is the name of a field, wherever
    it stands. For XML, a pattern with `/` is a path from the record, and a name is one of an element or
    attribute with or without prefix and `@`. `*` stands for any characters within one name.

    Args:
        only: Patterns of what is wanted; none for everything.
        without: Patterns of what is not.
    """

    def __init__(self, only: Sequence[str] = (), without: Sequence[str] = ()):
        self.only, self.without = tuple(only), tuple(without)
        self._wants = [_Pattern(text) for text in only]
        self._avoids = [_Pattern(text) for text in without]
        self._paths: dict[int, Path] = {0: ()}
        self._numbers = count(1)
        self._known: dict[tuple[int, Step], int] = {}

    def step(self, place: int, step: Step) -> int:
        """Return the place one step on; -1 where nothing is wanted."""
        found = self._known.get((place, step))
        if found is not None:
            return found
        path = (*self._paths[place], step)
        number = -1 if any(each.covers(path) for each in self._avoids) else next(self._numbers)
        self._paths[number] = path
        # Several threads may come here at once; what the first of them has found stays.
        return self._known.setdefault((place, step), number)

    def wanted(self, place: int) -> int:
        """Return the flags of a place."""
        path = self._paths[place]
        if not self._wants or any(each.covers(path) for each in self._wants):
            return SCALARS | INSIDE
        return INSIDE

    def is_level(self, place: int) -> bool:
        """Return False: patterns do not say what repeats."""
        return False

    def unmet(self, taken: Iterable[Path], passed: Iterable[Path]) -> list[str]:
        """Return the patterns that met nothing.

        Args:
            taken: The paths that were taken: what `only` asks for is among them.
            passed: The paths that were passed over: what `without` says is among them.
        """
        met, left = list(taken), list(passed)
        return [each.text for each in self._wants if not any(map(each.covers, met))] + [
            each.text for each in self._avoids if not any(map(each.covers, left))
        ]


class _Pattern:
    def __init__(self, text: str):
        self.text = text
        self._steps = _pattern_steps(text) if text.startswith("$") else None
        self._matches = re.compile(translate(text)).match
        parts = text.removeprefix("./").split("/")
        self._names = [re.compile(translate(part)).match for part in parts] if "/" in text else None

    def covers(self, path: Path) -> bool:
        """Say whether the pattern takes in what stands at the path."""
        if self._steps is not None:
            return _begins(path, self._steps)
        if self._names is not None and is_markup(path):
            names = [plain_name(step) for step in path if isinstance(step, str)]
            return len(names) >= len(self._names) and all(
                matches(name) for matches, name in zip(self._names, names, strict=False)
            )
        return any(
            isinstance(step, str)
            and (self._matches(step) or self._matches(plain_name(step)) or self._matches(local_name(step)))
            for step in path
        )


_PATTERN_STEP = re.compile(r"""\[\*\]|\.([^.\[\]]+)|\['([^']*)'\]|\["([^"]*)"\]""")


def _pattern_steps(text: str) -> list[re.Pattern[str] | None]:
    """Return for each step of a path pattern what its name must be like; None for each element."""
    steps: list[re.Pattern[str] | None] = []
    at = 1
    while at < len(text):
        found = _PATTERN_STEP.match(text, at)
        if found is None:
            rest = text[at:]
            raise UsageError(
                f"expected a step such as .name, .* or [*] in the pattern {in_quotes(text)}, got "
                f"{in_quotes(rest)}"
            )
        name = next((group for group in found.groups() if group is not None), None)
        steps.append(None if name is None else re.compile(translate(name)))
        at = found.end()
    return steps


def _begins(path: Path, steps: Sequence[re.Pattern[str] | None]) -> bool:
    """Say whether a path leads to, or below, what the steps describe.

    A step to each element also stands for a single object in its place.
    """
    at = 0
    for step in steps:
        is_element = at < len(path) and path[at] is ELEMENT
        if step is None:
            at += is_element
        elif at < len(path) and not is_element and step.match("*" if path[at] is ENTRY else str(path[at])):
            at += 1
        else:
            return False
    return True
