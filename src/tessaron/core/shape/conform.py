"""Bringing a fragment into the form that the settled shape has."""

from __future__ import annotations

from tessaron.core.base.paths import ENTRY
from tessaron.core.shape.recursion import has_several_ways
from tessaron.core.shape.shape_node import ShapeNode
from tessaron.core.tape.branches import Branch, fragment_of, tree_of
from tessaron.core.tape.emission import emit
from tessaron.core.tape.form import Form
from tessaron.core.tape.fragment import Fragment, Role
from tessaron.core.tape.put_aside import Packed, unpack
from tessaron.core.tape.regroup import (
    empty_texts_to_objects,
    fold,
    lift,
    texts_to_members,
    to_entries,
    to_members,
)
from tessaron.core.tape.tape import Tape


def conform(fragment: Fragment, record: ShapeNode) -> Fragment:
    """Return the fragment with dictionaries, objects among arrays and self-containment as in `record`.

    Args:
        fragment: As the kernel made it.
        record: The settled shape (see `structure.settle`).
    """
    if not is_regrouped(record) and all(node.role is not Role.ENTRY for node in fragment.nodes):
        return fragment
    tree = tree_of(fragment)
    conform_tree(tree, record)
    return fragment_of(tree, fragment)


def conform_tree(tree: Branch, record: ShapeNode) -> None:
    """Bring a tree into the form that `record` has; see `conform`."""
    pending: list[tuple[Branch, ShapeNode]] = [(tree, record)]
    while pending:
        branch, target = pending.pop()
        below = target.fold or target
        if below.is_dictionary:
            to_entries(branch)
        elif ENTRY in branch.children:
            to_members(branch)
        if below.is_lifted:
            lift(branch, below.lifts_scalars)
        if target.text_rule == "member":
            texts_to_members(branch)
        elif target.text_rule == "empty":
            empty_texts_to_objects(branch)
        branch.fold = target.fold
        for step, child in branch.children.items():
            if step in below.children:
                pending.append((child, below.children[step]))
    _fold_all(tree, record)


def mark_folds(tree: Branch, record: ShapeNode) -> None:
    """Let the branches of an emitted tree know where a structure that contains itself stands again."""
    pending: list[tuple[Branch, ShapeNode]] = [(tree, record)]
    while pending:
        branch, target = pending.pop()
        branch.fold = target.fold
        for step, child in branch.children.items():
            if step in target.children:
                pending.append((child, target.children[step]))


def _fold_all(tree: Branch, record: ShapeNode) -> None:
    """Fold the structures that contain themselves, from the outermost down."""
    pending = [(tree, record)]
    while pending:
        branch, target = pending.pop()
        if target.is_recursive:
            fold(branch, target, has_several_ways(target))
        for step, child in branch.children.items():
            if step in target.children:
                pending.append((child, target.children[step]))


def is_regrouped(record: ShapeNode) -> bool:
    """Say whether anything in the settled shape stands otherwise than in the documents."""
    return any(
        node.is_dictionary or node.is_lifted or node.is_recursive or node.text_rule for node in record.walk()
    )


def fragment_in_form(packed: Packed, record: ShapeNode, form: Form) -> Fragment:
    """Return what was put aside as columns.

    Args:
        packed: What `pack` returned.
        record: The structure that the columns shall have; see `conform`.
        form: Its form.
    """
    read = unpack(packed)
    if isinstance(read, Tape):
        return emit(read, form)
    return conform(read, record)
