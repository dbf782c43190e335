"""Which structures that stand at several places get one table for all of them, and why."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

from tessaron.core.base.kinds import Kind
from tessaron.core.base.paths import ELEMENT, Each, Path
from tessaron.core.model.level_places import Placed, has_column, levels_of, places_on_rows
from tessaron.core.model.likenesses import LEAST_FIELDS, Likeness, likenesses_of
from tessaron.core.model.likening import fill_up, liken, together
from tessaron.core.model.parting import KEY_COLUMNS, between_recursion, is_object
from tessaron.core.shape.shape import ShapeNode
from tessaron.core.shape.structure import part_off

HANDFUL = 5
"""A structure that stands at more places than this gets a table for all of them."""
IsWanted = Callable[[Path], bool]
"""Says whether it was asked for that what stands at a path, as in the shape, be shared."""


@dataclass(frozen=True, slots=True)
class SharedStructure:
    """A structure that gets one table, with a row for each object at any of its places.

    Attributes:
        name: What it is called in most of them.
        levels: The levels of these rows, one for each place.
        why: The reason, for people.
    """

    name: str
    levels: tuple[ShapeNode, ...]
    why: str


def shared_structures(
    record: ShapeNode, most_columns: int, is_wanted: IsWanted | None = None, by_itself: bool = True
) -> list[SharedStructure]:
    """Make the objects of structures that stand at several places rows, and return these structures.

    Args:
        record: The settled shape; it is changed.
        most_columns: So many columns, at most, shall a table have, keys included.
        is_wanted: Says which are to be shared however few places they have.
        by_itself: Whether others may be shared too.
    """
    work = _Sharing(record, is_wanted or (lambda path: False))
    for each in work.likenesses():
        work.choose(each, by_itself)
    if by_itself:
        work.choose_for_width(most_columns - KEY_COLUMNS)
    return work.made_rows()


class _Sharing:
    def __init__(self, record: ShapeNode, is_wanted: IsWanted):
        self._record, self._is_wanted = record, is_wanted
        self._above = {id(child): node for node in record.walk() for child in node.children.values()}
        self._number: dict[int, int] = {}
        self._chosen: list[tuple[Likeness, str]] = []
        self._left: list[Likeness] = []

    def likenesses(self) -> list[Likeness]:
        """Return what is alike, that which stands further out first."""
        objects = list(self._candidates())
        wanted_names = {frozenset(node.members()) for node, path in objects if self._is_wanted(path)}
        found = likenesses_of(
            [
                (node, path)
                for node, path in objects
                if len(node.members()) >= LEAST_FIELDS or frozenset(node.members()) in wanted_names
            ]
        )
        wanted = [each for each in found if self._asks_for(each)]
        for other in wanted[1:]:
            if other.names & wanted[0].names:
                wanted[0].places += other.places
                found.remove(other)
        return sorted(found, key=lambda each: min((len(path), str(path)) for _, path in each.places))

    def _candidates(self) -> Iterator[Placed]:
        """Yield the objects that are rows, or could be; not those of structures that contain themselves."""
        between, folded = between_recursion(self._record), self._folded()
        pending: list[Placed] = [(self._record, ())]
        while pending:
            node, path = pending.pop()
            pending += [(child, (*path, step)) for step, child in reversed(node.children.items())]
            if not path or id(node) in folded or not node.counts[Kind.OBJECT]:
                continue
            if isinstance(path[-1], Each):
                if not self._above[id(node)].is_recursive and not node.is_dictionary:
                    yield node, path
            elif is_object(node) and id(node) not in between:
                yield node, path

    def _folded(self) -> set[int]:
        """Return what holds a structure again that contains itself, or begins one, by `id`."""
        found: set[int] = set()
        for node in self._record.walk():
            at = node if node.fold is not None or node.is_recursive else None
            while at is not None and id(at) not in found:
                found.add(id(at))
                at = self._above.get(id(at))
        return found

    def _asks_for(self, likeness: Likeness) -> bool:
        return any(self._is_wanted(path) for _, path in likeness.places)

    def choose(self, likeness: Likeness, by_itself: bool) -> None:
        """Choose what stands at more than a handful of places, or was asked for."""
        places = self._place_count(likeness)
        if places > 1 and self._asks_for(likeness):
            self._take(likeness, "it was asked for")
        elif places > HANDFUL and by_itself:
            self._take(likeness, f"more than {HANDFUL} places have it")
        else:
            self._left.append(likeness)

    def choose_for_width(self, most: int) -> None:
        """Choose what makes a table wider than it shall be, that with most columns first."""
        for level, path in list(levels_of(self._record)):
            places = list(places_on_rows(level, path))
            width = sum(has_column(node) for node, _ in places)
            if width <= most:
                continue
            here = {id(node) for node, _ in places}
            sizes = [(self._columns_within(each, here), each) for each in self._left]
            for size, each in sorted(sizes, key=lambda pair: -pair[0]):
                if width > most and size > 0 and self._place_count(each) > 1:
                    self._take(each, f"{width:,} columns are more than a table shall have")
                    self._left.remove(each)
                    width -= size

    def _columns_within(self, likeness: Likeness, here: set[int]) -> int:
        inside = [placed for placed in likeness.places if id(placed[0]) in here]
        if len(inside) < 2:
            return 0
        return sum(has_column(node) for placed in inside for node, _ in places_on_rows(*placed))

    def _take(self, likeness: Likeness, why: str) -> None:
        self._number |= {id(node): len(self._chosen) for node, _ in likeness.places}
        self._chosen.append((likeness, why))

    def _place_count(self, likeness: Likeness) -> int:
        """Return at how many places something stands, where those inside of a shared structure count once."""
        return len({self._place(node, path) for node, path in likeness.places})

    def _place(self, node: ShapeNode, path: Path) -> tuple[int, Path]:
        at = self._above[id(node)]
        for count in range(len(path) - 1, 0, -1):
            if id(at) in self._number:
                return self._number[id(at)], path[count:]
            at = self._above[id(at)]
        return -1, path

    def made_rows(self) -> list[SharedStructure]:
        """Return what was chosen, its objects made rows."""
        for likeness, _ in self._chosen:
            liken([node for node, _ in likeness.places])
        groups = _Groups([[_level(node) for node, _ in likeness.places] for likeness, _ in self._chosen])
        groups.close()
        groups.fill_up(self._record)
        return [
            SharedStructure(likeness.name(), tuple(levels), why)
            for (likeness, why), levels in zip(self._chosen, groups.levels, strict=True)
            if levels
        ]


class _Groups:
    """The levels of shared structures, completed: what stands at one place within one is shared or not.

    Args:
        levels: The levels of each structure.
    """

    def __init__(self, levels: list[list[ShapeNode]]):
        self.levels = levels
        self._number = {id(node): number for number, group in enumerate(levels) for node in group}

    def close(self) -> None:
        """Complete them: until each has one form, and all of the same within them belongs to the same."""
        while any(self._completed(number) for number in range(len(self.levels))):
            pass
        for levels in self.levels:
            if len(levels) == 1:
                self._leave(levels)

    def fill_up(self, record: ShapeNode) -> None:
        """Let each level have all that stands at one of them, but what is a place of another structure."""
        owners = {id(child): node for node in record.walk() for child in node.children.values()}
        for levels in filter(None, self.levels):
            whole, known = together(levels, self._number)
            known.pop(id(whole), None)
            for level in levels:
                fill_up(level, whole, known)
                # A path to arrays in the one row of an object would be that of the row.
                owners[id(level)].is_single &= ELEMENT not in whole.children

    def _completed(self, number: int) -> bool:
        """Bring one structure into one form, and complete those within it; say whether anything changed."""
        group = self.levels[number]
        if group and not liken(group):
            self._leave(group)
            return True
        pending = [list(group)]
        while pending:
            nodes = pending.pop()
            steps = dict.fromkeys(step for node in nodes for step in node.children)
            for step in steps:
                below = [node.children[step] for node in nodes if step in node.children]
                numbers = {self._number[id(node)] for node in below if id(node) in self._number}
                if not numbers:
                    pending.append(below)
                elif len(numbers) > 1 or any(id(node) not in self._number for node in below):
                    self._join(below, min(numbers))
                    return True
        return False

    def _join(self, nodes: list[ShapeNode], number: int) -> None:
        """Let levels belong to one structure."""
        for node in nodes:
            old = self._number.get(id(node))
            if old is not None and old != number:
                self._take_out(node, old)
            if old != number:
                self.levels[number].append(node)
                self._number[id(node)] = number

    def _leave(self, nodes: list[ShapeNode]) -> None:
        """Let levels that cannot have one form be tables of their own."""
        for node in list(nodes):
            self._take_out(node, self._number.pop(id(node)))

    def _take_out(self, node: ShapeNode, number: int) -> None:
        self.levels[number] = [each for each in self.levels[number] if each is not node]


def _level(node: ShapeNode) -> ShapeNode:
    """Return the level with the objects at a node as its rows."""
    if isinstance(node.step, Each):
        return node
    if not node.is_lifted:
        part_off(node)
    return node.levels_below()[0]
