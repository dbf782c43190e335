"""Bringing what a schema declares into a shape: elements that were not met, repetition, types."""

from __future__ import annotations

from tessaron.core.base.paths import ELEMENT, MARKUP, TEXT_STEP
from tessaron.core.markup.namespaces import INSTANCE_NAMESPACE, Prefixes
from tessaron.core.markup.record_path import Name
from tessaron.core.markup.schema import Declared
from tessaron.core.shape.shape_node import ShapeNode


def declare(record: ShapeNode, declared: Declared, prefixes: Prefixes) -> None:
    """Add to a shape that is not settled yet what a schema declares of its records.

    Args:
        record: The shape.
        declared: The element that the records are.
        prefixes: The prefixes that paths have.
    """
    pending = [(record, declared)]
    while pending:
        node, element = pending.pop()
        position = 0
        for name, kind in element.attributes.items():
            child = _child(node, MARKUP + "@" + _spelled(name, prefixes), position)
            child.declared = kind
            position += 1
        holds_more = bool(element.attributes or element.children) or node is record
        if element.has_text:
            text = _child(node, TEXT_STEP, position) if holds_more else node
            text.declared = element.type or text.declared
        for name, below in element.children.items():
            child = _child(node, MARKUP + _spelled(name, prefixes), position)
            position += 1
            if below.again:
                continue
            if below.repeats:
                child.repeats = True
                child = child.child(ELEMENT)
            pending.append((child, below))


def _child(node: ShapeNode, step: str, position: int) -> ShapeNode:
    child = node.child(step)
    child.declared_position = position
    return child


def _spelled(name: Name, prefixes: Prefixes) -> str:
    if name.namespace and name.namespace != INSTANCE_NAMESPACE:
        prefixes.learn("", name.namespace)
    return name.shown(prefixes)
