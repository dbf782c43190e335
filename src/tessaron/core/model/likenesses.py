"""The same structure in many places: objects that have the same fields, whatever they are called."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator

from tessaron.core.base.kinds import Kind
from tessaron.core.base.paths import Path, format_path, plain_name
from tessaron.core.shape.shape import ShapeNode
from tessaron.core.shape.survey_entries import LikePlaces

LEAST_FIELDS, LEAST_PLACES = 3, 3
"""Objects of so many fields, in so many places, are one structure."""
SAME_NAMES = 0.75
"""They are alike when so great a share of all their names is in both."""
_MOST_COMPARED = 500
"""Of more sorts of objects than this only those with quite the same names are taken together."""


def like_places(record: ShapeNode) -> tuple[LikePlaces, ...]:
    """Return the structures that stand in several places of a settled shape, those of most places first."""
    sorts: dict[frozenset[str], list[tuple[Path, int]]] = {}
    for node, path in _objects(record):
        names = frozenset(node.members())
        if len(names) >= LEAST_FIELDS:
            sorts.setdefault(names, []).append((path, node.counts[Kind.OBJECT]))
    merged = _merged(sorts) if len(sorts) <= _MOST_COMPARED else list(sorts.items())
    found = [_told(names, places) for names, places in merged if len(places) >= LEAST_PLACES]
    return tuple(sorted(found, key=lambda each: (-len(each.paths), each.paths[0])))


def _objects(record: ShapeNode) -> Iterator[tuple[ShapeNode, Path]]:
    pending: list[tuple[ShapeNode, Path]] = [(record, ())]
    while pending:
        node, path = pending.pop()
        if path and node.counts[Kind.OBJECT] and not node.is_dictionary:
            yield node, path
        pending += [(child, (*path, step)) for step, child in reversed(node.children.items())]


def _merged(
    sorts: dict[frozenset[str], list[tuple[Path, int]]],
) -> list[tuple[frozenset[str], list[tuple[Path, int]]]]:
    """Return the sorts, those that are alike in one: each goes to the first that it is like."""
    made: list[tuple[frozenset[str], list[tuple[Path, int]]]] = []
    for names, places in sorted(sorts.items(), key=lambda item: (-len(item[1]), sorted(item[0]))):
        like = (others for known, others in made if len(names & known) >= SAME_NAMES * len(names | known))
        others = next(like, None)
        if others is None:
            made.append((names, list(places)))
        else:
            others += places
    return made


def _told(names: frozenset[str], places: list[tuple[Path, int]]) -> LikePlaces:
    called = Counter(_name_of(path) for path, _ in places)
    name = min(called, key=lambda each: (-called[each], len(each), each))
    places.sort(key=lambda place: (-place[1], len(place[0]), str(place[0])))
    return LikePlaces(name, tuple(format_path(path) for path, _ in places), len(names))


def _name_of(path: Path) -> str:
    steps = [step for step in path if isinstance(step, str)]
    return plain_name(steps[-1]) if steps else "entries"
