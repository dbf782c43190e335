"""The diagram of tables as lines of text: a tree, and beside each table what else it refers to."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from tessaron.core.base.visible import visible
from tessaron.views.diagram.table_links import Box, Drawn, Link
from tessaron.views.grid import pad, shorten, text_width

_WIDEST_TREE = 60


def diagram_lines(drawn: Drawn, width: int = 0) -> Iterator[str]:
    """Yield the diagram: `─<` before a table with many rows for each above, `─o` where it is one at most.

    Args:
        drawn: What is drawn.
        width: Cells of the terminal; 0 for no limit.
    """
    rows = list(_tree(drawn))
    widest = min(max((text_width(first) for first, _ in rows), default=0), max(_WIDEST_TREE, width // 2))
    for first, second in rows:
        line = f"{pad(shorten(first, widest), widest, False)}  {second}".rstrip()
        yield visible(shorten(line, width) if width else line)


def _tree(drawn: Drawn) -> Iterator[tuple[str, str]]:
    """Yield the lines in two parts: the tree with the names of tables, and what they hold."""
    tree: dict[str | None, list[Link]] = {}
    hung: set[str] = set()
    for link in drawn.links:
        is_above = link.one != link.many and not link.looked_up_by
        if is_above and link.many not in hung and not _leads_back(link, tree):
            hung.add(link.many)
            tree.setdefault(link.one, []).append(link)
    boxes = drawn.by_name()
    pending: list[tuple[Box, Link | None, str, str]] = [
        (box, None, "", "") for box in reversed(drawn.boxes) if box.name not in hung
    ]
    while pending:
        box, above, before, below = pending.pop()
        mark = "" if above is None else "─o " if above.is_single else "─< "
        yield f"{before}{mark}{box.name}", _holds(box, above, drawn.links)
        children = tree.get(box.name, [])
        for index in reversed(range(len(children))):
            child, is_last = children[index], index == len(children) - 1
            corner, line = ("└", "    ") if is_last else ("├", "│   ")
            pending.append((boxes[child.many], child, below + corner, below + line))


def _leads_back(link: Link, tree: dict[str | None, list[Link]]) -> bool:
    pending = [link.many]
    while pending:
        for each in tree.get(pending.pop(), ()):
            if each.many == link.one:
                return True
            pending.append(each.many)
    return False


def _holds(box: Box, above: Link | None, links: Sequence[Link]) -> str:
    """Return how many columns a table has, and rows where that is known; and what else it refers to."""
    data = sum(line.role in ("", "link") for line in box.lines)
    keys = sum(line.role in ("key", "link", "position") for line in box.lines)
    data -= sum(line.role == "link" for line in box.lines)
    parts = [] if box.rows is None else [f"{box.rows:,} row{'s' * (box.rows != 1)}"]
    parts += [f"{keys} key{'s' * (keys != 1)}, {data:,} column{'s' * (data != 1)}"]
    others = [each for each in links if each.many == box.name and each is not above]
    parts += [f"{each.column} → {'itself' if each.one == each.many else each.one}" for each in others]
    return "; ".join(parts)
