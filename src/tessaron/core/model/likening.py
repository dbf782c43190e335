"""Giving one form to a structure that stands at several places of a settled shape, and taking it together."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from typing import TypeVar

from tessaron.core.base.kinds import SCALAR_KINDS, Kind
from tessaron.core.base.paths import ELEMENT, TEXT_STEP, Step
from tessaron.core.model.level_places import has_column
from tessaron.core.shape.shape_node import TOO_MANY_NAMES, ShapeNode
from tessaron.core.shape.structure import lift, settle_text, take_as_dictionary

_T = TypeVar("_T")


def liken(nodes: Sequence[ShapeNode]) -> bool:
    """Give the same form to all that stands at and below some nodes; say whether there is one for all.

    What is a dictionary, or has rows, or text beside something else at one of them is that at the others.
    """
    pending = [list(nodes)]
    while pending:
        group = pending.pop()
        if not (_liken_dictionaries(group) and _liken_rows(group)):
            return False
        _liken_texts(group)
        steps = dict.fromkeys(step for node in group for step in node.children)
        pending += [[node.children[step] for node in group if step in node.children] for step in steps]
    return True


def _liken_dictionaries(group: list[ShapeNode]) -> bool:
    if not any(node.is_dictionary for node in group):
        return True
    for node in group:
        if node.is_dictionary or not node.counts[Kind.OBJECT]:
            continue
        if node.is_lifted or any(below.fold is not None for below in node.walk()):
            return False
        take_as_dictionary(node)
    return True


def _liken_rows(group: list[ShapeNode]) -> bool:
    """Let objects be rows where the same stands in arrays elsewhere."""
    if not any(node.is_lifted or _has_objects_in_arrays(node) for node in group):
        return True
    for node in group:
        is_alone = node.is_markup and any(node.counts[kind] for kind in (*SCALAR_KINDS, Kind.NULL))
        may_be = node.step is not ELEMENT and (node.counts[Kind.OBJECT] or is_alone)
        if may_be and not node.is_lifted:
            if node.is_dictionary:
                return False
            lift(node)
    return True


def _has_objects_in_arrays(node: ShapeNode) -> bool:
    element = node.children.get(ELEMENT)
    return element is not None and bool(element.counts[Kind.OBJECT] or node.is_markup)


def _liken_texts(group: list[ShapeNode]) -> None:
    """Let text of XML stand beside something else everywhere, where it does so at one of the places."""
    if not any(node.is_markup and node.members() for node in group):
        return
    for node in group:
        if any(node.counts[kind] for kind in SCALAR_KINDS):
            node.child(TEXT_STEP)
            settle_text(node)


def together(nodes: Sequence[ShapeNode], known: Mapping[int, _T]) -> tuple[ShapeNode, dict[int, _T]]:
    """Return one node for all that was seen at some nodes of one form, and which of its nodes are known.

    Args:
        nodes: The nodes; they stay as they are.
        known: What is known of nodes that stand below them, by `id`.

    Returns:
        The node, and what is known of those below it that stand for such ones, by `id`.
    """
    found: dict[int, _T] = {}
    made = ShapeNode()
    pending: list[tuple[ShapeNode, Sequence[ShapeNode]]] = [(made, nodes)]
    while pending:
        target, group = pending.pop()
        _take_form(target, group)
        for node in group:
            target.absorb_own(node)
            if id(node) in known:
                found[id(target)] = known[id(node)]
        below: dict[Step, list[ShapeNode]] = {}
        for node in group:
            for step, child in node.children.items():
                below.setdefault(step, []).append(child)
        for step, children in below.items():
            target.children[step] = ShapeNode(step)
            pending.append((target.children[step], children))
    return made, found


def _take_form(target: ShapeNode, group: Sequence[ShapeNode]) -> None:
    first = group[0]
    target.step, target.is_markup = first.step, first.is_markup
    target.is_dictionary = any(node.is_dictionary for node in group)
    target.is_lifted = any(node.is_lifted for node in group)
    target.lifts_scalars = any(node.lifts_scalars for node in group)
    # Where a value stands elsewhere, or an array, a path must lead to each object.
    only_objects = target.is_lifted and not any(has_column(node) for node in group)
    holds_arrays = any(ELEMENT in node.children.get(ELEMENT, node).children for node in group)
    target.is_single = (
        only_objects and not holds_arrays and all(node.is_single for node in group if node.is_lifted)
    )
    target.text_rule = next((node.text_rule for node in group if node.text_rule), "")
    target.declared = next((node.declared for node in group if node.declared is not None), None)
    target.name_count = min(max(node.name_count for node in group), TOO_MANY_NAMES)


def fill_up(node: ShapeNode, whole: ShapeNode, left: Collection[int]) -> None:
    """Let a node have all that stands below another of its form, which nothing was seen of here.

    Args:
        node: The node; it is changed.
        whole: What was seen at several nodes, it among them (see `together`).
        left: What of that is left out, by `id`.
    """
    pending = [(node, whole)]
    while pending:
        mine, theirs = pending.pop()
        for step, child in theirs.children.items():
            if id(child) in left:
                continue
            if step not in mine.children:
                mine.children[step] = ShapeNode(step)
                _take_form(mine.children[step], [child])
            elif mine.children[step].is_lifted and ELEMENT not in mine.children[step].children:
                _take_form(mine.children[step], [child])
            elif mine.children[step].is_lifted:
                mine.children[step].is_single = child.is_single
            pending.append((mine.children[step], child))
