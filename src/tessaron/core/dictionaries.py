"""Telling an object used as a dictionary, whose names are data, from an ordinary record."""

from __future__ import annotations

import re

from tessaron.core.kinds import Kind
from tessaron.core.shape import MOST_NAMES, ShapeNode

MANY_KEYS, LOW_PRESENCE = 30, 0.2
"""So many distinct names, each in so small a share of the objects, make a dictionary."""
CODE_KEYS, CODE_PRESENCE = 8, 0.5
"""The same for names that look like codes."""
DATA_KEYS = 3
"""So many distinct names that are all dates, numbers or UUIDs make a dictionary."""
FEW_OBJECTS = 3
"""With so few objects presence says nothing; then the names or the values must look alike."""
LIKE_KINDS = 0.9
"""The share of values that must be of one kind (integers and fractions count as one, null as any)."""
LIKE_FIELDS = 0.25
"""How full, at least, the objects that are values must be: the share of their fields that is there."""

_DATA_NAME = re.compile(
    r"\d{4}-\d\d(-\d\d([T ]\d\d:\d\d(:\d\d(\.\d+)?)?(Z|[+-]\d\d:\d\d)?)?)?"
    r"|-?\d+(\.\d+)?|[0-9a-fA-F]{8}(-[0-9a-fA-F]{4}){3}-[0-9a-fA-F]{12}|(?=.*\d)[0-9a-f]{16,}"
)
_CODE_NAME = re.compile(
    r"[A-Z]{2,3}|[a-z]{2,3}([-_][A-Za-z0-9]{2,8})*|[A-Z0-9]+[-./:]?[0-9][A-Z0-9./:-]*|.*[/:@].*"
)
_KIND_GROUPS = (
    (Kind.OBJECT,),
    (Kind.ARRAY,),
    (Kind.TEXT,),
    (Kind.BOOLEAN,),
    (Kind.INTEGER, Kind.LONG_INTEGER, Kind.FRACTION),
)


def is_dictionary(node: ShapeNode) -> bool:
    """Say whether the objects at `node` are dictionaries: the first rule that speaks decides.

    1. More than `MOST_NAMES` distinct names: yes.
    2. Values of different kinds, or objects that have little in common: no.
    3. At least `DATA_KEYS` names, and all are dates, numbers or UUIDs: yes.
    4. At least `CODE_KEYS` names that look like codes, each in at most `CODE_PRESENCE` of the objects: yes.
    5. At least `MANY_KEYS` names, each in at most `LOW_PRESENCE` of the objects: yes.
    6. At least `MANY_KEYS` names in at most `FEW_OBJECTS` objects: yes if the values are objects or arrays,
       or the names look like codes.
    """
    members = node.members()
    if len(members) > MOST_NAMES:
        return True
    if len(members) < DATA_KEYS or not _are_alike(list(members.values())):
        return False
    if all(map(_DATA_NAME.fullmatch, members)):
        return True
    objects = node.counts[Kind.OBJECT]
    presence = sum(member.occurrences for member in members.values()) / (len(members) * max(objects, 1))
    coded = len(members) >= CODE_KEYS and all(map(_is_code, members))
    if coded and presence <= CODE_PRESENCE:
        return True
    if len(members) < MANY_KEYS:
        return False
    return presence <= LOW_PRESENCE or (
        objects <= FEW_OBJECTS and (coded or _are_containers(list(members.values())))
    )


def _is_code(name: str) -> bool:
    return bool(_CODE_NAME.fullmatch(name) or _DATA_NAME.fullmatch(name))


def _are_alike(members: list[ShapeNode]) -> bool:
    totals = [sum(node.counts[kind] for node in members for kind in group) for group in _KIND_GROUPS]
    if not sum(totals) or max(totals) < LIKE_KINDS * sum(totals):
        return False
    return totals[0] < max(totals) or _have_like_fields(members)


def _have_like_fields(members: list[ShapeNode]) -> bool:
    """Say whether objects share their fields: of all fields met, each object has a fair share."""
    fields = {name for node in members for name in node.members()}
    if not fields or all(map(_DATA_NAME.fullmatch, fields)):
        return True
    objects = sum(node.counts[Kind.OBJECT] for node in members)
    filled = sum(inner.occurrences for node in members for inner in node.members().values())
    return filled >= LIKE_FIELDS * objects * len(fields)


def _are_containers(members: list[ShapeNode]) -> bool:
    containers = sum(node.counts[Kind.OBJECT] + node.counts[Kind.ARRAY] for node in members)
    return 2 * containers > sum(node.occurrences for node in members)
