"""Structures that contain themselves: which do, what is folded into what, and where they stand again."""

from __future__ import annotations

from tessaron.core.base.kinds import Kind
from tessaron.core.base.paths import ELEMENT, ENTRY, Each, Path
from tessaron.core.shape.shape_node import ShapeNode

LIKE_NAMES = 0.5
"""Objects are of one kind when so great a share of the names of the smaller one is in the other."""


LEAST_SAME, SAME_NAMES = 2, 0.75
"""Rows under another name are the same if they have more fields than this in common, and so great a share."""


def holds_another(node: ShapeNode) -> bool:
    """Say whether a structure that begins further up stands again below.

    Two structures that contain each other cannot both be folded: a row would have to say in which row of
    either it stands.
    """
    inside = {id(below) for below in node.walk()}
    return any(below.fold is not None and id(below.fold) not in inside for below in node.walk())


def fold_below(outer: ShapeNode) -> bool:
    """Fold every node of the same name and kind below `outer` into it; say whether there was one.

    Where the way leads through different levels nothing is folded: a row could not say where it stood.
    """
    while True:
        inner = [node for node, _ in inner_nodes(outer) if node.fold is None and is_of_one_kind(outer, node)]
        through = {
            id(between)
            for node, between in inner_nodes(outer)
            if between is not None and (node.fold is outer or node in inner)
        }
        if not inner or len(through) > 1:
            return outer.is_recursive
        for node in inner:
            # What one of them takes along may have held another.
            if node.fold is None and node.moved_to is None:
                node.fold_into(outer)
        folded = (node for node in outer.walk() if node.fold is outer)
        if not outer.is_dictionary and any(node.counts[Kind.OBJECT] for node in (outer, *folded)):
            outer.is_lifted = True


def level_between(outer: ShapeNode) -> ShapeNode | None:
    """Return the level through which the structure at `outer` contains itself; None if there is none."""
    if not outer.is_recursive:
        return None
    found = (between for node, between in inner_nodes(outer) if node.fold is outer and between is not None)
    return next(found, None)


def has_several_ways(outer: ShapeNode) -> bool:
    """Say whether the structure at `outer` contains itself in more than one place."""
    return outer.is_recursive and sum(node.fold is outer for node, _ in inner_nodes(outer)) > 1


def inner_nodes(outer: ShapeNode) -> list[tuple[ShapeNode, ShapeNode | None]]:
    """Return the nearest nodes below with the same name, and the last level between, if there is one.

    What contains itself under a name of its own, in rows that are the same (`items` with `children` with
    `children`), counts as having the same.
    """
    found: list[tuple[ShapeNode, ShapeNode | None]] = []
    pending: list[tuple[ShapeNode, ShapeNode | None]] = [
        (child, None) for step, child in outer.children.items() if not isinstance(step, Each)
    ]
    for level in outer.levels_below():
        pending += [
            (child, child if isinstance(step, Each) else None) for step, child in level.children.items()
        ]
    while pending:
        node, between = pending.pop()
        if node.step == outer.step or node.fold is outer or _is_same_by_another_name(outer, node):
            found.append((node, between))
            continue
        for step, child in node.children.items():
            pending.append((child, child if isinstance(step, Each) else between))
    return found


def _is_same_by_another_name(outer: ShapeNode, node: ShapeNode) -> bool:
    """Say whether rows of a member of the rows at `outer` have the same fields, that member among them."""
    rows = outer.children.get(outer.rows_step)
    if rows is None or not isinstance(node.step, str) or rows.children.get(node.step) is not node:
        return False
    inner = node.children.get(outer.rows_step)
    # An element of XML is made again with the name of its table.
    if inner is None or node.is_markup or outer.is_dictionary != node.is_dictionary:
        return False
    if node.step not in inner.children:
        return False
    ours, theirs = set(rows.members()), set(inner.members())
    both = ours & theirs
    return len(both) > LEAST_SAME and len(both) >= SAME_NAMES * len(ours | theirs)


def is_of_one_kind(outer: ShapeNode, inner: ShapeNode) -> bool:
    """Say whether what stands further in has enough of the names of what stands further out."""
    if outer.is_gathered and inner.is_gathered:
        return True
    is_dictionary = ENTRY in outer.children
    if ENTRY in inner.children and not is_dictionary:
        return False
    ours, theirs = _field_names(outer, is_dictionary), _field_names(inner, is_dictionary)
    smaller = min(len(ours), len(theirs))
    return smaller > 0 and len(ours & theirs) >= LIKE_NAMES * smaller


def _field_names(node: ShapeNode, is_dictionary: bool) -> set[str]:
    """Return the names in the objects at `node` and in its arrays, its own aside; or else in its entries.

    The inner one of two dictionaries may have too few names to be known for one.
    """
    if is_dictionary and ENTRY in node.children:
        levels = [node.children[ENTRY]]
    elif is_dictionary:
        levels = list(node.members().values())
    else:
        levels = [node, *(node.children[step] for step in (ELEMENT,) if step in node.children)]
    if not any(level.counts[Kind.OBJECT] for level in levels):
        return set()
    return {name for level in levels for name in level.members()} - {str(node.step)}


def places_again(record: ShapeNode) -> dict[Path, Path]:
    """Return where structures that contain themselves stand again, with where each begins."""
    paths: dict[int, Path] = {}
    found: list[tuple[Path, ShapeNode]] = []
    pending: list[tuple[ShapeNode, Path]] = [(record, ())]
    while pending:
        node, path = pending.pop()
        paths[id(node)] = path
        if node.fold is not None:
            found.append((path, node.fold))
        pending += [(child, (*path, step)) for step, child in node.children.items()]
    return {path: paths[id(outer)] for path, outer in found}
