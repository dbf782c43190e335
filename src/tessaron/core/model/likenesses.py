"""The same structure in many places: objects that have the same fields, whatever they are called."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field

from tessaron.core.base.kinds import SCALAR_KINDS, Kind
from tessaron.core.base.paths import Path, format_path, plain_name
from tessaron.core.model.level_places import Placed, with_paths
from tessaron.core.shape.shape_node import ShapeNode
from tessaron.core.survey.survey_entries import LikePlaces

LEAST_FIELDS, LEAST_PLACES = 3, 3
"""Objects of so many fields, in so many places, are one structure."""
SAME_NAMES = 0.75
"""They are alike when so great a share of all their names is in both."""
_MOST_COMPARED = 500
"""Of more sorts of objects than this only those with quite the same names are taken together."""
_NUMBERS = (Kind.INTEGER, Kind.LONG_INTEGER, Kind.FRACTION)


@dataclass
class Likeness:
    """Objects that are alike.

    Attributes:
        names: The names of their fields, of those that came first.
        kinds: What the fields hold, where that is known.
        places: Where they stand.
    """

    names: frozenset[str]
    kinds: dict[str, str]
    places: list[Placed] = field(default_factory=list)

    def fits(self, names: frozenset[str], kinds: Mapping[str, str]) -> bool:
        """Say whether others are like these: most names are the same, and most of these hold the same."""
        both = names & self.names
        if len(both) < SAME_NAMES * len(names | self.names):
            return False
        known = [name for name in both if name in kinds and name in self.kinds]
        return sum(kinds[name] == self.kinds[name] for name in known) >= SAME_NAMES * len(known)

    def name(self) -> str:
        """Return what they are called in most of their places."""
        called: Counter[str] = Counter()
        objects: Counter[str] = Counter()
        for node, path in self.places:
            called[_name_of(path)] += 1
            objects[_name_of(path)] += node.counts[Kind.OBJECT]
        return min(called, key=lambda each: (-called[each], -objects[each], each))


def like_places(record: ShapeNode) -> tuple[LikePlaces, ...]:
    """Return the structures that stand in several places of a settled shape, those of most places first."""
    enough = [(node, path) for node, path in _objects(record) if len(node.members()) >= LEAST_FIELDS]
    likenesses = likenesses_of(enough)
    found = [_told(each) for each in likenesses if len(each.places) >= LEAST_PLACES]
    return tuple(sorted(found, key=lambda each: (-len(each.paths), each.paths[0])))


def likenesses_of(objects: Sequence[Placed]) -> list[Likeness]:
    """Return objects of a settled shape, those that are alike together."""
    sorts: dict[tuple[frozenset[str], tuple[tuple[str, str], ...]], Likeness] = {}
    # What was met first depends on how the source was cut.
    for node, path in sorted(objects, key=lambda placed: tuple(map(str, placed[1]))):
        names, kinds = frozenset(node.members()), _kinds_of(node)
        made = Likeness(names, kinds)
        sorts.setdefault((names, tuple(sorted(kinds.items()))), made).places.append((node, path))
    return _merged(list(sorts.values()))


def _objects(record: ShapeNode) -> Iterator[Placed]:
    for node, path in with_paths(record):
        if path and node.counts[Kind.OBJECT] and not node.is_dictionary:
            yield node, path


def _kinds_of(node: ShapeNode) -> dict[str, str]:
    found = {name: _kind_of(member) for name, member in node.members().items()}
    return {name: kind for name, kind in found.items() if kind}


def _kind_of(node: ShapeNode) -> str:
    """Return in a word what stands at most of a place; empty for nothing but null."""
    counts = {
        "structure": node.counts[Kind.OBJECT] + node.counts[Kind.ARRAY],
        "number": sum(node.counts[kind] for kind in _NUMBERS),
        **{kind.name: node.counts[kind] for kind in SCALAR_KINDS if kind not in _NUMBERS},
    }
    kind = max(counts, key=lambda each: counts[each])
    return kind if counts[kind] else ""


def _merged(sorts: list[Likeness]) -> list[Likeness]:
    """Return the sorts, those that are alike in one: each goes to the first that it is like."""
    made: list[Likeness] = []
    exactly: dict[frozenset[str], list[Likeness]] = {}
    for sort in sorted(sorts, key=_most_places_first):
        among = made if len(sorts) <= _MOST_COMPARED else exactly.get(sort.names, [])
        like = next((each for each in among if each.fits(sort.names, sort.kinds)), None)
        if like is None:
            made.append(sort)
            exactly.setdefault(sort.names, []).append(sort)
        else:
            like.places += sort.places
            like.kinds = sort.kinds | like.kinds
    return made


def _most_places_first(likeness: Likeness) -> tuple[int, list[str], list[tuple[str, str]]]:
    return -len(likeness.places), sorted(likeness.names), sorted(likeness.kinds.items())


def _told(likeness: Likeness) -> LikePlaces:
    def most_first(place: Placed) -> tuple[int, int, str]:
        node, path = place
        return -node.counts[Kind.OBJECT], len(path), str(path)

    paths = tuple(format_path(path) for _, path in sorted(likeness.places, key=most_first))
    return LikePlaces(likeness.name(), paths, len(likeness.names))


def _name_of(path: Path) -> str:
    steps = [step for step in path if isinstance(step, str)]
    return plain_name(steps[-1]) if steps else "entries"
