"""How a layout spells the paths of drafted tables and columns."""

from __future__ import annotations

from tessaron.core.base.paths import ELEMENT, Path, Step, format_path, is_markup
from tessaron.core.shape.shape_node import ShapeNode


def rows_path(rows: Path, record: ShapeNode) -> str:
    """Return the path of a table's rows as a layout spells it; objects that are rows have no step to each."""
    if not record.is_markup:
        return format_path(_without_single(rows, record))
    from tessaron.core.layout.layout_xml_paths import relative_path

    return relative_path(rows, ())


def _without_single(rows: Path, record: ShapeNode) -> Path:
    node: ShapeNode | None = record
    kept: list[Step] = []
    for step in rows:
        if step is not ELEMENT or node is None or not node.is_single:
            kept.append(step)
        node = None if node is None else node.children.get(step)
    return tuple(kept)


def path_below(path: Path, rows: Path) -> str:
    """Return a path as a layout spells it in a table with these rows: below them it begins at the row."""
    if is_markup(path):
        from tessaron.core.layout.layout_xml_paths import relative_path

        return relative_path(path, rows)
    if not rows or path[: len(rows)] != rows:
        return format_path(path)
    return "@" + format_path(path[len(rows) :])[1:]
