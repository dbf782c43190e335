"""The diagram of tables as SVG, styled by the classes that the page has."""

from __future__ import annotations

from collections.abc import Iterator
from html import escape
from itertools import pairwise

from tessaron.core.base.visible import visible
from tessaron.views.diagram.placing import HEAD, LINE, Placed, PlacedBox, PlacedLink, shown_name

_BEND = 0.5
"""How far control points of curves stand in the gap; at the half a curve stays inside of it."""
_FOOT, _FOOT_WIDTH = 11.0, 5.5


def svg_of(placed: Placed, title: str) -> str:
    """Return a diagram as an `<svg>` element, with `data-table` and `data-column` at what can be chosen.

    Args:
        placed: The diagram.
        title: What it shows, for those who do not see it.
    """
    width, height = f"{placed.width:.0f}", f"{placed.height:.0f}"
    size = f'viewBox="0 0 {width} {height}" width="{width}" height="{height}"'
    parts = [
        f'<svg xmlns="http://www.w3.org/2000/svg" role="img" aria-label="{escape(visible(title))}" {size}>'
    ]
    parts += map(_link, placed.links)
    for box in placed.boxes:
        parts += _box(box)
    return "".join([*parts, "</svg>"])


def _box(placed: PlacedBox) -> Iterator[str]:
    box, x, y, width = placed.box, placed.x, placed.y, placed.width
    name, shown = escape(visible(box.name)), escape(visible(shown_name(box.name)))
    yield f'<g class="box" data-table="{name}">'
    yield f'<rect x="{x:.1f}" y="{y:.1f}" width="{width:.1f}" height="{placed.height:.1f}" rx="2"/>'
    if not placed.is_folded:
        yield f'<path class="rule" d="M{x:.1f} {y + HEAD:.1f}h{width:.1f}"/>'
    rows = "" if box.rows is None else f"{box.rows:,}"
    yield f'<text class="name" x="{x + 9:.1f}" y="{y + 17:.1f}">{shown}</text>'
    if rows:
        yield f'<text class="rows" x="{x + width - 9:.1f}" y="{y + 17:.1f}">{rows}</text>'
    if not placed.is_folded:
        for index, line in enumerate(box.lines):
            middle = y + HEAD + LINE * (index + 0.5) + 4
            yield (
                f'<g class="{line.role or "data"}" data-column="{escape(visible(line.name))}">'
                f'<text x="{x + 22:.1f}" y="{middle:.1f}">{escape(visible(shown_name(line.name)))}</text>'
                f'<text class="type" x="{x + width - 9:.1f}" y="{middle:.1f}">{escape(line.type)}</text>'
                + _mark(line.role, x + 11, middle - 4)
                + "</g>"
            )
    yield "</g>"


def _mark(role: str, x: float, y: float) -> str:
    """Return a full dot for a key, a ring for what refers to one."""
    if role not in ("key", "link"):
        return ""
    return f'<circle cx="{x:.1f}" cy="{y:.1f}" r="3"/>'


def _link(placed: PlacedLink) -> str:
    link = placed.link
    kind = "self" if link.one == link.many else "single" if link.is_single else "many"
    names = f'data-one="{escape(visible(link.one))}" data-many="{escape(visible(link.many))}"'
    ends = _one_end(placed) + _many_end(placed)
    return f'<g class="link {kind}" {names}><path d="{way_of(placed)}"/>{ends}</g>'


def way_of(placed: PlacedLink) -> str:
    """Return the way of a link as path data of SVG: level through layers, curved in the gaps."""
    points = placed.points
    if placed.link.one == placed.link.many:
        (x, y), (reach, _), _, (end, last) = points
        return f"M{x:.1f} {y:.1f}C{reach:.1f} {y:.1f} {reach:.1f} {last:.1f} {end:.1f} {last:.1f}"
    parts = [f"M{points[0][0]:.1f} {points[0][1]:.1f}"]
    for (x, y), (to_x, to_y) in pairwise(points):
        if y == to_y:
            parts.append(f"H{to_x:.1f}")
        else:
            bend = (to_x - x) * _BEND
            parts.append(f"C{x + bend:.1f} {y:.1f} {to_x - bend:.1f} {to_y:.1f} {to_x:.1f} {to_y:.1f}")
    return "".join(parts)


def _sides(placed: PlacedLink) -> tuple[float, float]:
    """Return on which side the link leaves `one`, and `many`: 1 to the right, -1 to the left."""
    if placed.link.one == placed.link.many:
        return 1.0, 1.0
    return (-1.0, 1.0) if placed.is_turned else (1.0, -1.0)


def _one_end(placed: PlacedLink) -> str:
    """Return a bar: exactly one."""
    (x, y), side = placed.points[0], _sides(placed)[0]
    return f'<path d="M{x + side * 7:.1f} {y - 5:.1f}v10"/>'


def _many_end(placed: PlacedLink) -> str:
    """Return a ring and a crow's foot: none or many; or a ring and a bar: none or one."""
    (x, y), side = placed.points[-1], _sides(placed)[1]
    toe = x + side * _FOOT
    ring = f'<circle class="none" cx="{toe + side * 3.5:.1f}" cy="{y:.1f}" r="3"/>'
    if placed.link.is_single:
        return f'{ring}<path d="M{x + side * 7:.1f} {y - 5:.1f}v10"/>'
    spread = (
        f"M{toe:.1f} {y:.1f}L{x:.1f} {y - _FOOT_WIDTH:.1f}M{toe:.1f} {y:.1f}L{x:.1f} {y + _FOOT_WIDTH:.1f}"
    )
    return f'{ring}<path d="{spread}"/>'
