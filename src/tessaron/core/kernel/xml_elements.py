"""What is asked of single elements of lxml: do they hold elements, are they nil, how are they written."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable
from typing import Final, cast

from tessaron.core.base.parsed_values import XmlElement
from tessaron.core.markup.namespaces import INSTANCE_NAMESPACE
from tessaron.core.markup.tokens import RECORDS_MARK

SPACE: Final = " \t\r\n"
"""White space, as XML has it."""
RUN_OF_SPACE = re.compile("[ \t\r\n]+")
NIL: Final = f"{{{INSTANCE_NAMESPACE}}}nil"
"""The name of `xsi:nil`."""


def has_no_element(element: XmlElement) -> bool:
    """Say whether an element holds comments and instructions only, besides text."""
    return not any(type(child.tag) is str or records_at(child) for child in element)


def records_at(node: XmlElement) -> int:
    """Return how many records stood where a node that is no element marks it; 0 for all else."""
    if getattr(node, "target", "") != RECORDS_MARK or not (node.text or "").isdecimal():
        return 0
    return int(node.text)


def is_instruction(node: XmlElement) -> bool:
    """Say whether a node that is no element is a processing instruction, and not a comment."""
    return hasattr(node, "target")


def is_bare_nil(element: XmlElement) -> bool:
    """Say whether an element holds nothing but `xsi:nil`."""
    if not _nil_alone(element.items()):
        return False
    return not element.text and all(type(child.tag) is not str and not child.tail for child in element)


def _nil_alone(items: Iterable[tuple[str, str]]) -> bool:
    found = list(items)
    return len(found) == 1 and found[0][0] == NIL and found[0][1].strip(SPACE) in ("true", "1")


def markup_of(element: XmlElement) -> str:
    """Return an element as XML, without what follows it."""
    from lxml import etree

    return cast("str", etree.tostring(element, encoding="unicode", with_tail=False))


def _trimmed(text: str) -> str:
    return text.strip(SPACE)


def _collapsed(text: str) -> str:
    return RUN_OF_SPACE.sub(" ", text.strip(SPACE))


def _kept(text: str) -> str:
    return text


CLEANING: dict[str, Callable[[str], str]] = {"trim": _trimmed, "collapse": _collapsed, "keep": _kept}
"""What becomes of the white space of a text, by the name of the rule."""
