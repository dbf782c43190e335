"""Where boxes stand in a diagram, and how links run: through the gaps between layers, and slots kept free."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from itertools import pairwise

from tessaron.views.diagram.layering import Layers, Slot, layers_of
from tessaron.views.diagram.table_links import Box, Drawn, Link

LINE, HEAD = 18.0, 26.0
"""The heights of the line of a column, and of that with the name of a table."""
LETTER = 7.3
"""The width of a letter of the names of columns; that of tables is a bit more."""
_LONGEST, _BEGINNING = 36, 10
_GAP, _APART, _SLOT, _MARGIN = 76.0, 22.0, 12.0, 24.0
_STUB = 16.0
"""How far a link runs level at its ends, where its marks are."""
_LOOP = 30.0
"""How far a self-reference reaches out of its box."""
_PASSES = 6


@dataclass(frozen=True, slots=True)
class PlacedBox:
    """A box with its upper left corner and its size; `lines` are the columns shown."""

    box: Box
    x: float
    y: float
    width: float
    height: float
    is_folded: bool

    def line_y(self, column: str) -> float:
        """Return how far down the middle of the line of a column is; that of the name where it is folded."""
        if not self.is_folded:
            for index, line in enumerate(self.box.lines):
                if line.name == column:
                    return self.y + HEAD + LINE * (index + 0.5)
        return self.y + HEAD / 2


@dataclass(frozen=True, slots=True)
class PlacedLink:
    """A link as points from `one` to `many`, with curves between those that are not level."""

    link: Link
    points: tuple[tuple[float, float], ...]
    is_turned: bool = False


@dataclass(frozen=True, slots=True)
class Placed:
    """A diagram laid out; sizes are in pixels at a letter of 12 pixels."""

    boxes: tuple[PlacedBox, ...]
    links: tuple[PlacedLink, ...]
    width: float
    height: float
    is_folded: bool


def place(drawn: Drawn, most_lines: int = 400) -> Placed:
    """Return a diagram laid out; with more columns than `most_lines` only the names of tables are shown."""
    is_folded = drawn.line_count > most_lines
    layers, by_name = layers_of(drawn), drawn.by_name()
    loops = {link.one for link in drawn.links if link.one == link.many}
    heights = {
        slot: _SLOT if isinstance(slot, tuple) else _height(by_name[slot], is_folded)
        for layer in layers.slots
        for slot in layer
    }
    tops = _tops(layers, heights)
    placed: dict[str, PlacedBox] = {}
    edges: list[tuple[float, float]] = []
    x = _MARGIN
    for layer in layers.slots:
        names = [slot for slot in layer if isinstance(slot, str)]
        width = max((_width(by_name[name], is_folded) for name in names), default=_GAP)
        for name in names:
            placed[name] = PlacedBox(by_name[name], x, tops[name], width, heights[name], is_folded)
        reach = _LOOP if loops & set(names) else 0.0
        edges.append((x, x + width + reach))
        x += width + reach + _GAP
    links = tuple(
        _placed_link(n, drawn.links[n], layers, placed, edges, tops) for n in range(len(drawn.links))
    )
    bottom = max((box.y + box.height for box in placed.values()), default=0.0)
    lowest = max((y for link in links for _, y in link.points), default=0.0)
    order = tuple(placed[box.name] for box in drawn.boxes)
    return Placed(order, links, x - _GAP + _MARGIN, max(bottom, lowest) + _MARGIN, is_folded)


def _height(box: Box, is_folded: bool) -> float:
    return HEAD if is_folded else HEAD + LINE * len(box.lines) + 5


def shown_name(name: str) -> str:
    """Return a name as long as a box shows it; of longer ones the ends, as that is where they differ."""
    return name if len(name) <= _LONGEST else f"{name[:_BEGINNING]}…{name[_BEGINNING + 1 - _LONGEST :]}"


def _width(box: Box, is_folded: bool) -> float:
    rows = 0 if box.rows is None else len(f"{box.rows:,}") + 2
    head = (len(shown_name(box.name)) + rows) * (LETTER + 0.7) + 22
    lines = () if is_folded else box.lines
    widest = max((len(shown_name(line.name)) for line in lines), default=0)
    types = max((len(line.type) for line in lines), default=0)
    return max(head, (widest + types + 3) * LETTER + 38, 120.0)


def _tops(layers: Layers, heights: Mapping[Slot, float]) -> dict[Slot, float]:
    """Return how far down each slot begins: as near to its neighbours as the order allows."""
    neighbours: dict[Slot, list[Slot]] = {slot: [] for slot in heights}
    for way in layers.ways.values():
        for one, many in pairwise(way):
            neighbours[one].append(many)
            neighbours[many].append(one)
    middles: dict[Slot, float] = {}
    for layer in layers.slots:
        y = _MARGIN
        for slot in layer:
            middles[slot] = y + heights[slot] / 2
            y += heights[slot] + _APART
    numbers = range(len(layers.slots))
    for turn in range(_PASSES):
        for number in numbers if turn % 2 else reversed(numbers):
            _settle(layers.slots[number], heights, middles, neighbours)
    tops = {slot: middle - heights[slot] / 2 for slot, middle in middles.items()}
    shift = _MARGIN - min(tops.values(), default=_MARGIN)
    return {slot: top + shift for slot, top in tops.items()}


def _settle(
    layer: Sequence[Slot],
    heights: Mapping[Slot, float],
    middles: dict[Slot, float],
    neighbours: Mapping[Slot, list[Slot]],
) -> None:
    """Move the slots of a layer to where they would be, in order and apart (pool adjacent violators)."""
    pools: list[list[float]] = []
    offset, offsets = 0.0, []
    for index, slot in enumerate(layer):
        if index:
            offset += (heights[layer[index - 1]] + heights[slot]) / 2 + _APART
        offsets.append(offset)
        beside = neighbours[slot]
        wanted = sum(middles[each] for each in beside) / len(beside) if beside else middles[slot]
        weight = 3.0 if isinstance(slot, tuple) else 1.0
        pools.append([(wanted - offset) * weight, weight, 1.0])
        while len(pools) > 1 and pools[-2][0] / pools[-2][1] > pools[-1][0] / pools[-1][1]:
            total, weight, count = pools.pop()
            pools[-1] = [pools[-1][0] + total, pools[-1][1] + weight, pools[-1][2] + count]
    places = [total / weight for total, weight, count in pools for _ in range(int(count))]
    for slot, place, own in zip(layer, places, offsets, strict=True):
        middles[slot] = place + own


def _placed_link(
    number: int,
    link: Link,
    layers: Layers,
    placed: Mapping[str, PlacedBox],
    edges: Sequence[tuple[float, float]],
    tops: Mapping[Slot, float],
) -> PlacedLink:
    one, many = placed[link.one], placed[link.many]
    key = link.looked_up_by or next((line.name for line in one.box.lines if line.role == "key"), "")
    start, end = one.line_y(key), many.line_y(link.column)
    if link.one == link.many:
        right = one.x + one.width
        end = end if end != start else start + 9
        return PlacedLink(link, ((right, start), (right + _LOOP, start), (right + _LOOP, end), (right, end)))
    way = layers.ways[number]
    is_turned = way[0] != link.one
    first, last = (many, one) if is_turned else (one, many)
    starts, ends = (end, start) if is_turned else (start, end)
    points = [(first.x + first.width, starts), (edges[_layer_at(first, edges)][1] + _STUB, starts)]
    for slot in way[1:-1]:
        assert isinstance(slot, tuple)
        middle = tops[slot] + _SLOT / 2
        points += [(edges[slot[1]][0], middle), (edges[slot[1]][1], middle)]
    points += [(last.x - _STUB, ends), (last.x, ends)]
    return PlacedLink(link, tuple(reversed(points)) if is_turned else tuple(points), is_turned)


def _layer_at(box: PlacedBox, edges: Sequence[tuple[float, float]]) -> int:
    return next(index for index, (left, _) in enumerate(edges) if left == box.x)
