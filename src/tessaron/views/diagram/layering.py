"""Which layer each table of a diagram stands in, and in which order: few lines cross.

After Sugiyama, Tagawa and Toda (1981): layers by the longest way, long links through
a slot in each layer between, orders by the mean place of the neighbours, sweeping to and fro.
"""

from __future__ import annotations

from bisect import bisect_right, insort
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from itertools import pairwise

from tessaron.views.diagram.table_links import Drawn, Link

_SWEEPS = 8
_MOST_COUNTED = 4_000
"""With more pieces of links than this the order in which tables come stays."""

Slot = str | tuple[int, int]
"""What takes room in a layer: a table, or a link (its number, the layer) on its way through."""


@dataclass(frozen=True, slots=True)
class Layers:
    """Where tables stand.

    Attributes:
        slots: The layers from the left, each from above.
        ways: For each link by its number the slots from `one` to `many`; no self-references.
    """

    slots: tuple[tuple[Slot, ...], ...]
    ways: Mapping[int, tuple[Slot, ...]]


def layers_of(drawn: Drawn) -> Layers:
    """Return the layers of tables; the key that is referred to always stands further left."""
    links = {number: link for number, link in enumerate(drawn.links) if link.one != link.many}
    names = [box.name for box in drawn.boxes]
    forwards = _without_rings(links)
    layer = _layer_numbers(names, forwards)
    ways = {number: _way(number, link, layer) for number, link in forwards.items()}
    slots: list[list[Slot]] = [[] for _ in range(max(layer.values(), default=-1) + 1)]
    for name in _in_depth(names, forwards.values()):
        slots[layer[name]].append(name)
    for way in ways.values():
        for slot in way[1:-1]:
            assert isinstance(slot, tuple)
            slots[slot[1]].append(slot)
    return Layers(_ordered(slots, list(ways.values())), ways)


def _without_rings(links: Mapping[int, Link]) -> dict[int, Link]:
    """Return the links, in their order, with those turned round that would close a ring."""
    made: dict[int, Link] = {}
    below: dict[str, list[str]] = {}
    for number, link in links.items():
        if _leads(link.many, link.one, below):
            made[number] = replace(link, one=link.many, many=link.one)
        else:
            made[number] = link
        below.setdefault(made[number].one, []).append(made[number].many)
    return made


def _leads(start: str, end: str, below: Mapping[str, list[str]]) -> bool:
    """Say whether links lead from one table to another."""
    seen, pending = {start}, [start]
    while pending:
        for name in below.get(pending.pop(), ()):
            if name not in seen:
                seen.add(name)
                pending.append(name)
    return end in seen


def _layer_numbers(names: Sequence[str], links: Mapping[int, Link]) -> dict[str, int]:
    layer = dict.fromkeys(names, 0)
    for _ in names:
        changed = False
        for link in links.values():
            if layer[link.many] <= layer[link.one]:
                layer[link.many], changed = layer[link.one] + 1, True
        if not changed:
            break
    refers = {link.many for link in links.values()}
    nearest: dict[str, int] = {}
    for link in links.values():
        nearest[link.one] = min(layer[link.many], nearest.get(link.one, len(names)))
    # What nothing stands before is near what refers to it.
    return layer | {name: number - 1 for name, number in nearest.items() if name not in refers}


def _way(number: int, link: Link, layer: Mapping[str, int]) -> tuple[Slot, ...]:
    between = range(layer[link.one] + 1, layer[link.many])
    return (link.one, *((number, each) for each in between), link.many)


def _in_depth(names: Sequence[str], links: Iterable[Link]) -> list[str]:
    """Return the tables with what belongs to each behind it: so the lines of a tree do not cross at all."""
    below: dict[str, list[str]] = {}
    refers = set()
    for link in links:
        below.setdefault(link.one, []).append(link.many)
        refers.add(link.many)
    seen: dict[str, None] = {}
    pending = [name for name in reversed(names) if name not in refers]
    while pending:
        name = pending.pop()
        if name not in seen:
            seen[name] = None
            pending.extend(reversed(below.get(name, ())))
    return [*seen, *(name for name in names if name not in seen)]


def _ordered(slots: list[list[Slot]], ways: Sequence[tuple[Slot, ...]]) -> tuple[tuple[Slot, ...], ...]:
    pieces = [pair for way in ways for pair in pairwise(way)]
    best = tuple(map(tuple, slots))
    if len(pieces) > _MOST_COUNTED:
        return best
    before: dict[Slot, list[Slot]] = {}
    behind: dict[Slot, list[Slot]] = {}
    for one, many in pieces:
        before.setdefault(many, []).append(one)
        behind.setdefault(one, []).append(many)
    fewest = _crossings(best, behind)
    order = [list(layer) for layer in slots]
    for sweep in range(_SWEEPS):
        if not fewest:
            break
        there = sweep % 2 == 0
        for number in range(1, len(order)) if there else range(len(order) - 2, -1, -1):
            beside = order[number - 1] if there else order[number + 1]
            _sort_by_mean(order[number], beside, before if there else behind)
        found = _crossings(order, behind)
        if found < fewest:
            best, fewest = tuple(map(tuple, order)), found
    return best


def _sort_by_mean(layer: list[Slot], beside: Sequence[Slot], neighbours: Mapping[Slot, list[Slot]]) -> None:
    place = {slot: float(index) for index, slot in enumerate(beside)}

    def mean(pair: tuple[int, Slot]) -> float:
        index, slot = pair
        found = [place[each] for each in neighbours.get(slot, ()) if each in place]
        return sum(found) / len(found) if found else float(index)

    layer[:] = [slot for _, slot in sorted(enumerate(layer), key=mean)]


def _crossings(layers: Sequence[Sequence[Slot]], behind: Mapping[Slot, list[Slot]]) -> int:
    """Return how many pieces of links cross between neighbouring layers."""
    total = 0
    for layer, following in pairwise(layers):
        place = {slot: index for index, slot in enumerate(following)}
        ends: list[int] = []
        for slot in layer:
            own = sorted(place[each] for each in behind.get(slot, ()))
            total += sum(len(ends) - bisect_right(ends, end) for end in own)
            for end in own:
                insort(ends, end)
    return total
