"""The diagram of tables drawn by Matplotlib, laid out as on the page."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import pairwise
from typing import Any

from matplotlib.patches import PathPatch, Rectangle
from matplotlib.path import Path

from tessaron.views.diagram.placing import HEAD, LINE, PlacedBox, PlacedLink, place, shown_name
from tessaron.views.diagram.table_links import Drawn
from tessaron.views.figures.harbour_figure import INK, SEA, HarbourFigure

_MOST_LINES = 160
"""With more columns only the names of tables are drawn: more would not be legible."""
_FOOT, _WIDTH, _BAR = 11.0, 5.5, 7.0
_LEAST_POINTS, _MOST_POINTS = 4.5, 11.0


def draw_diagram(figure: HarbourFigure, drawn: Drawn) -> None:
    """Draw a diagram on a figure."""
    placed = place(drawn, _MOST_LINES)
    axes = figure.add_subplot()
    axes.set_xlim(0, placed.width)
    axes.set_ylim(placed.height, 0)
    axes.set_aspect("equal")
    axes.set_axis_off()
    room_x, room_y = figure.get_size_inches() * 72 * 0.93
    points = 12 * min(room_x / placed.width, room_y / placed.height)
    points = max(_LEAST_POINTS, min(points, _MOST_POINTS)) * 0.95
    for link in placed.links:
        _draw_link(axes, link)
    for box in placed.boxes:
        _draw_box(axes, box, points)
    told = "; so many columns that only names are drawn" if placed.is_folded else ""
    figure.say(f"● key   ○ refers to a key   crow's foot: none, one or many rows for each{told}")


def _draw_box(axes: Any, placed: PlacedBox, points: float) -> None:
    box, x, y, width = placed.box, placed.x, placed.y, placed.width
    axes.add_patch(
        Rectangle((x, y), width, placed.height, facecolor="white", edgecolor=INK, linewidth=0.8, zorder=2)
    )
    font = {"family": "monospace", "fontsize": points, "color": INK, "zorder": 3, "va": "center"}
    axes.text(x + 9, y + HEAD / 2, shown_name(box.name), weight="bold", **font)
    if box.rows is not None:
        axes.text(x + width - 9, y + HEAD / 2, f"{box.rows:,}", ha="right", **font)
    if placed.is_folded:
        return
    axes.plot([x, x + width], [y + HEAD, y + HEAD], color=INK, linewidth=0.8, zorder=3)
    for index, line in enumerate(box.lines):
        middle = y + HEAD + LINE * (index + 0.5)
        mark = {"key": "●", "link": "○"}.get(line.role, "")
        axes.text(
            x + 11, middle, mark, ha="center", **{**font, "fontsize": points * 0.8, "family": "sans-serif"}
        )
        axes.text(x + 22, middle, shown_name(line.name), **font)
        axes.text(x + width - 9, middle, line.type, ha="right", **{**font, "color": "#4d6470"})


def _draw_link(axes: Any, placed: PlacedLink) -> None:
    vertices, codes = zip(*_way(placed), strict=True)
    axes.add_patch(PathPatch(Path(vertices, codes), facecolor="none", edgecolor=SEA, linewidth=0.9, zorder=1))
    is_loop = placed.link.one == placed.link.many
    one_side, many_side = (1.0, 1.0) if is_loop else (-1.0, 1.0) if placed.is_turned else (1.0, -1.0)
    (x, y), (end, last) = placed.points[0], placed.points[-1]
    _line(axes, (x + one_side * _BAR, y - 5), (x + one_side * _BAR, y + 5))
    toe = end + many_side * _FOOT
    axes.plot(
        [toe + many_side * 3.5],
        [last],
        "o",
        markersize=3,
        markerfacecolor="white",
        markeredgecolor=SEA,
        zorder=4,
    )
    if placed.link.is_single:
        _line(axes, (end + many_side * _BAR, last - 5), (end + many_side * _BAR, last + 5))
        return
    for spread in (-_WIDTH, _WIDTH):
        _line(axes, (toe, last), (end, last + spread))


def _line(axes: Any, start: tuple[float, float], end: tuple[float, float]) -> None:
    axes.plot([start[0], end[0]], [start[1], end[1]], color=SEA, linewidth=0.9, zorder=1)


def _way(placed: PlacedLink) -> Iterator[tuple[tuple[float, float], int]]:
    points = placed.points
    yield points[0], int(Path.MOVETO)
    if placed.link.one == placed.link.many:
        (reach, y), (_, last), end = points[1], points[2], points[3]
        for point in ((reach, y), (reach, last), end):
            yield point, int(Path.CURVE4)
        return
    for (x, y), (to_x, to_y) in pairwise(points):
        middle = (x + to_x) / 2
        for point in ((middle, y), (middle, to_y), (to_x, to_y)):
            yield point, int(Path.CURVE4)
