"""Which structures that stand at several places get one table for all of them, and why."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass

from tessaron.core.base.kinds import Kind
from tessaron.core.base.paths import ELEMENT, Each, Path
from tessaron.core.model.identities import WatchedStructure, watched_structure
from tessaron.core.model.level_places import Placed, has_column, levels_of, with_paths
from tessaron.core.model.likenesses import LEAST_FIELDS, Likeness, likenesses_of
from tessaron.core.model.likening import fill_up, liken, together
from tessaron.core.model.parting import KEY_COLUMNS, between_recursion, is_object
from tessaron.core.shape.shape_node import ShapeNode
from tessaron.core.shape.structure import part_off, put_back

HANDFUL = 5
"""A structure that stands at more places than this gets a table for all of them."""
IsWanted = Callable[[Path], bool]
"""Says whether it was asked for that what stands at a path, as in the shape, be shared."""


@dataclass(frozen=True, slots=True)
class SharedStructure:
    """A structure that gets one table for all its places.

    Attributes:
        name: What it is called in most of them.
        nodes: The levels with its objects as rows, one for each place; where it has an identity, the objects.
        why: The reason, for people.
        by: The paths from the object to the fields that are its identity, if it has one. Each value of these
            has one row then, to which the fields, which stay where they are, refer.
    """

    name: str
    nodes: tuple[ShapeNode, ...]
    why: str
    by: tuple[Path, ...] = ()


class Sharing:
    """Chooses structures that stand at several places, and makes their objects rows.

    Args:
        record: The settled shape; it is changed.
        is_wanted: Says which are to be shared however few places they have.
    """

    def __init__(self, record: ShapeNode, is_wanted: IsWanted | None = None):
        self._record, self._is_wanted = record, is_wanted or (lambda path: False)
        self._above = {id(child): node for node in record.walk() for child in node.children.values()}
        self._number: dict[int, int] = {}
        self._chosen: list[tuple[Likeness, str]] = []
        self._left: list[Likeness] = []
        self._groups = _Groups([])

    def make_rows(self, most_columns: int, by_itself: bool = True) -> None:
        """Choose, and make what was chosen rows.

        Args:
            most_columns: So many columns, at most, shall a table have, keys included.
            by_itself: Whether others than those that are wanted may be chosen.
        """
        for each in self._likenesses():
            self._choose(each, by_itself)
        if by_itself:
            self._choose_for_width(most_columns - KEY_COLUMNS)
        for likeness, _ in self._chosen:
            liken(_current(likeness.places))
        self._groups = _Groups([_levels(likeness.places) for likeness, _ in self._chosen])
        self._groups.close()
        self._groups.fill_up(self._record)

    def watched(self) -> list[WatchedStructure]:
        """Return the structures that may have an identity: those of which no other rows stand below."""
        if not any(self._groups.levels):
            return []
        paths = {id(node): path for node, path in with_paths(self._record)}
        found = []
        for number, levels in enumerate(self._groups.levels):
            if levels:
                whole, _ = together(levels, {})
                found.append(watched_structure(number, [(node, paths[id(node)]) for node in levels], whole))
        return [each for each in found if each is not None]

    def shared(self, identities: Mapping[int, tuple[Path, ...]]) -> list[SharedStructure]:
        """Return what was chosen.

        Args:
            identities: The fields that are the identity of a structure, by its number.
        """
        owners = {id(child): node for node in self._record.walk() for child in node.children.values()}
        found = []
        for number, (likeness, why) in enumerate(self._chosen):
            nodes, by = self._groups.levels[number], identities.get(number, ())
            if by:
                nodes = [_object(node, owners[id(node)]) for node in nodes]
            if nodes:
                found.append(SharedStructure(likeness.name(), tuple(nodes), why, by))
        return found

    def _likenesses(self) -> list[Likeness]:
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
        found = self._with_wanted_together(found)
        return sorted(found, key=lambda each: min((len(path), str(path)) for _, path in each.places))

    def _with_wanted_together(self, found: list[Likeness]) -> list[Likeness]:
        """Return likenesses, those that were asked for and have half of their names in common in one."""
        made: list[Likeness] = []
        for each in found:
            is_like = (other for other in made if self._asks_for(other) and _are_half_alike(each, other))
            first = next(is_like, None) if self._asks_for(each) else None
            if first is None:
                made.append(each)
            else:
                first.places += each.places
        return made

    def _candidates(self) -> Iterator[Placed]:
        """Yield the objects that are rows, or could be; not those of structures that contain themselves."""
        between, folded = between_recursion(self._record), self._folded()
        for node, path in with_paths(self._record):
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

    def _choose(self, likeness: Likeness, by_itself: bool) -> None:
        """Choose what stands at more than a handful of places, or was asked for."""
        places = self._place_count(likeness)
        if places > 1 and self._asks_for(likeness):
            self._take(likeness, "it was asked for")
        elif places > HANDFUL and by_itself:
            self._take(likeness, f"more than {HANDFUL} places have it")
        else:
            self._left.append(likeness)

    def _choose_for_width(self, most: int) -> None:
        """Choose what makes a table wider than it shall be, that with most columns first."""
        of_node = {id(node): index for index, each in enumerate(self._left) for node, _ in each.places}
        may_be = {index for index, each in enumerate(self._left) if self._place_count(each) > 1}
        for level, _ in list(levels_of(self._record)):
            while True:
                width, sizes = self._widths(level, of_node)
                found = sorted(may_be & sizes.keys(), key=lambda each: (-sizes[each], each))
                if width <= most or not found:
                    break
                index = found[0]
                self._take(self._left[index], f"{width:,} columns are more than a table shall have")
                may_be.remove(index)

    def _widths(self, level: ShapeNode, of_node: Mapping[int, int]) -> tuple[int, Counter[int]]:
        """Return how many columns rows of a level would have, but for what is shared already.

        Args:
            level: The level.
            of_node: The structures that may be shared, by the `id` of their nodes.

        Returns:
            All columns; and how many of them each structure has that stands at several places there.
        """
        width = 0
        sizes: Counter[int] = Counter()
        places: Counter[int] = Counter()
        pending: list[tuple[ShapeNode, tuple[int, ...]]] = [(level, ())]
        while pending:
            node, inside = pending.pop()
            if node is not level and id(node) in self._number:
                continue
            if (index := of_node.get(id(node))) is not None:
                places[index] += 1
                inside = (*inside, index)
            if has_column(node):
                width += 1
                sizes.update(set(inside))
            pending += [(child, inside) for step, child in node.children.items() if isinstance(step, str)]
        for index in [index for index in sizes if places[index] < 2]:
            del sizes[index]
        return width, sizes

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


def _are_half_alike(one: Likeness, other: Likeness) -> bool:
    return 2 * len(one.names & other.names) >= min(len(one.names), len(other.names))


class _Groups:
    """The levels of shared structures, completed: what stands at one place within one is shared or not.

    Args:
        levels: The levels of each structure.
    """

    def __init__(self, levels: list[list[ShapeNode]]):
        self.levels: list[list[ShapeNode]] = [[] for _ in levels]
        self._number: dict[int, int] = {}
        for number, group in enumerate(levels):
            # Some of several structures may have been taken together.
            self._join(group, number)

    def close(self) -> None:
        """Complete them: until each has one form, and all of the same within them belongs to the same."""
        self._renewed()
        changed = True
        while changed:
            changed = False
            for number in range(len(self.levels)):
                changed |= self._completed(number)
        for levels in self.levels:
            if len(levels) == 1:
                self._leave(levels)

    def _completed(self, number: int) -> bool:
        """Bring one structure into one form, and complete those within it; say whether any has changed."""
        changed = self._settle(number)
        pending = [list(self.levels[number])]
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
                    changed = True
        return changed

    def _settle(self, number: int) -> bool:
        """Bring one structure into one form; say whether levels of any are others by that."""
        if not liken(self.levels[number]):
            self._leave(self.levels[number])
        return self._renewed()

    def _renewed(self) -> bool:
        """Put in the place of levels what has taken them over; say whether there were any."""
        changed = False
        for other, levels in enumerate(self.levels):
            # What becomes a dictionary takes levels together.
            if any(node.moved_to is not None for node in levels):
                self._leave(levels)
                self._join([node.current() for node in levels], other)
                changed = True
        return changed

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

    def fill_up(self, record: ShapeNode) -> None:
        """Let each level have all that stands at one of them, but what is a place of another structure."""
        owners = {id(child): node for node in record.walk() for child in node.children.values()}
        for levels in filter(None, self.levels):
            whole, known = together(levels, self._number)
            known.pop(id(whole), None)
            for level in levels:
                fill_up(level, whole, known)
        for level in (level for levels in self.levels for level in levels):
            # A path to arrays in the one row of an object would be that of the row.
            owners[id(level)].is_single &= ELEMENT not in level.children


def _levels(places: Sequence[Placed]) -> list[ShapeNode]:
    """Return the levels with the objects at some places, each once: some may have been taken together."""
    found = (_level(node) for node in _current(places) if not _is_dictionary_now(node))
    return list({id(level): level for level in found}.values())


def _current(places: Sequence[Placed]) -> list[ShapeNode]:
    """Return the nodes at some places, or what has taken them over, each once."""
    return list({id(node.current()): node.current() for node, _ in places}.values())


def _is_dictionary_now(node: ShapeNode) -> bool:
    """Say whether objects that could be rows were taken together with some whose names are data."""
    return node.is_dictionary and not isinstance(node.step, Each)


def _level(node: ShapeNode) -> ShapeNode:
    """Return the level with the objects at a node as its rows."""
    if isinstance(node.step, Each):
        return node
    if not node.is_lifted:
        part_off(node)
    return node.levels_below()[0]


def _object(level: ShapeNode, owner: ShapeNode) -> ShapeNode:
    """Return the object that a level's rows are, made none of its own where each row above has one."""
    if not owner.is_single:
        return level
    put_back(owner)
    return owner
