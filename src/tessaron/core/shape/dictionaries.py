"""Telling an object used as a dictionary, whose names are data, from an ordinary record."""

from __future__ import annotations

import re
from collections import Counter
from dataclasses import dataclass

from tessaron.core.base.kinds import Kind
from tessaron.core.base.paths import ELEMENT, ENTRY
from tessaron.core.shape.shape_node import MOST_NAMES, ShapeNode

MANY_KEYS, LOW_PRESENCE = 30, 0.2
"""So many distinct names, each in so small a share of the objects, make a dictionary."""
CODE_KEYS, CODE_PRESENCE = 8, 0.5
"""The same for names that look like codes."""
DATA_KEYS = 3
"""So many distinct names that are all dates, numbers or UUIDs make a dictionary."""
MANY_CONTAINERS = 256
"""More distinct names than this, whose values mostly are objects or arrays, make a dictionary: nobody would
want as many groups of columns, or as many tables."""
FEW_OBJECTS = 3
"""With so few objects presence says nothing; then the names or the values must look alike."""
LIKE_KINDS = 0.9
"""The share of values that must be of one kind (integers and fractions count as one, null as any)."""
LIKE_FIELDS, RARE_FIELD = 0.25, 0.05
"""How full, at least, the objects that are values must be: the share of their fields that is there. Fields in
a smaller share of the objects than the second figure do not count."""
ALL_BUT_FEW, LEAST_FIELDS, SAME_FIELDS = 0.98, 2, 0.75
"""Values are of one structure if so great a share of them are objects, with so many fields at least, of which
each has so great a share."""

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


@dataclass(slots=True)
class _Values:
    """All values of the members of objects taken together.

    Attributes:
        names: Occurrences of each name.
        counts: Values per `Kind` code.
        fields: Of the values that are objects: occurrences of each of their names.
        nodes: The nodes the values stand at.
    """

    names: dict[str, int]
    counts: list[int]
    fields: Counter[str]
    nodes: list[ShapeNode]

    @classmethod
    def of(cls, node: ShapeNode) -> _Values:
        if node.names is not None and ENTRY in node.children:
            entry = node.children[ENTRY]
            return cls(node.names, entry.counts, Counter(_field_counts(entry)), [entry])
        members = node.members()
        fields: Counter[str] = Counter()
        for member in members.values():
            fields.update(_field_counts(member))
        counts = [sum(column) for column in zip(*(member.counts for member in members.values()), strict=True)]
        names = {name: member.occurrences for name, member in members.items()}
        return cls(names, counts, fields, list(members.values()))

    def merged(self) -> ShapeNode:
        """Return one node for all values."""
        if len(self.nodes) == 1:
            return self.nodes[0]
        made = ShapeNode()
        for node in self.nodes:
            made.absorb(node, folds=False)
        return made


def _field_counts(node: ShapeNode) -> dict[str, int]:
    if node.names is not None:
        return node.names
    return {name: inner.occurrences for name, inner in node.members().items()}


def is_dictionary(node: ShapeNode) -> bool:
    """Say whether the objects at `node` are dictionaries: the first rule that speaks decides.

    1. More than `MOST_NAMES` distinct names, or more than `MANY_CONTAINERS` if most values are objects or
       arrays: yes.
    2. Values of different kinds, or objects that have little in common: no. Scalars of one kind beside
       objects that are alike are no reason where all names are data or codes (3 and 4).
    3. At least `DATA_KEYS` names, and all are dates, numbers or UUIDs: yes.
    4. At least `CODE_KEYS` names that look like codes, each in at most `CODE_PRESENCE` of the objects: yes.
    5. At least `MANY_KEYS` names, each in at most `LOW_PRESENCE` of the objects: yes; in at most
       `CODE_PRESENCE` if the values are objects or arrays.
    6. At least `MANY_KEYS` names in at most `FEW_OBJECTS` objects: yes if the values are objects or arrays,
       or the names look like codes.
    7. At least `CODE_KEYS` names whose values are all objects of one structure, arrays of such, or
       dictionaries of codes: yes, be each name in every object.
    """
    if (node.is_dictionary and node.names is None) or len(node.members()) > MOST_NAMES:
        return True
    values = _Values.of(node)
    names = values.names
    if len(names) > MANY_CONTAINERS and _are_containers(values):
        return True
    if len(names) >= CODE_KEYS and _are_one_structure(values):
        return True
    is_mixed = not _are_alike(values)
    if len(names) < DATA_KEYS or (is_mixed and not _are_values_and_objects(values)):
        return False
    if all(map(_DATA_NAME.fullmatch, names)):
        return True
    objects = node.counts[Kind.OBJECT]
    presence = sum(names.values()) / (len(names) * max(objects, 1))
    coded = len(names) >= CODE_KEYS and all(map(_is_code, names))
    if coded and presence <= CODE_PRESENCE:
        return True
    if len(names) < MANY_KEYS or is_mixed:
        return False
    contained = _are_containers(values)
    if presence <= (CODE_PRESENCE if contained else LOW_PRESENCE):
        return True
    return objects <= FEW_OBJECTS and (coded or contained)


def _are_one_structure(values: _Values) -> bool:
    """Say whether all values are objects, or arrays of objects, with nearly the same fields."""
    containers = values.counts[Kind.OBJECT] + values.counts[Kind.ARRAY]
    if containers < ALL_BUT_FEW * (sum(values.names.values()) - values.counts[Kind.NULL]):
        return False
    elements = [node.children[ELEMENT] for node in values.nodes if ELEMENT in node.children]
    objects = values.counts[Kind.OBJECT] + sum(element.counts[Kind.OBJECT] for element in elements)
    rows = values.counts[Kind.OBJECT] + sum(element.row_count for element in elements)
    if objects < ALL_BUT_FEW * rows or not objects:
        return False
    fields = Counter(values.fields)
    for element in elements:
        fields.update(_field_counts(element))
    common = [count for count in fields.values() if count >= RARE_FIELD * objects]
    # What stands alone here and in arrays there is rows of one thing, be it with one field only.
    is_both = bool(elements) and values.counts[Kind.OBJECT] > 0
    if len(common) >= (1 if is_both else LEAST_FIELDS) and sum(common) >= SAME_FIELDS * objects * len(common):
        return True
    return not elements and _are_dictionaries(values)


def _are_dictionaries(values: _Values) -> bool:
    """Say whether objects are dictionaries themselves, by nearly all of their names, with like values."""
    coded = sum(count for name, count in values.fields.items() if _is_code(name))
    if coded < LIKE_KINDS * values.fields.total():
        return False
    inner = [member.counts for node in values.nodes for member in _entries_of(node)]
    totals = [sum(counts[kind] for counts in inner for kind in group) for group in _KIND_GROUPS]
    return max(totals) >= LIKE_KINDS * sum(totals) > 0


def _entries_of(node: ShapeNode) -> list[ShapeNode]:
    return [node.children[ENTRY]] if ENTRY in node.children else list(node.members().values())


def _is_code(name: str) -> bool:
    return bool(_CODE_NAME.fullmatch(name) or _DATA_NAME.fullmatch(name))


def _are_alike(values: _Values) -> bool:
    totals = [sum(values.counts[kind] for kind in group) for group in _KIND_GROUPS]
    if not sum(totals) or max(totals) < LIKE_KINDS * sum(totals):
        return False
    return totals[0] < max(totals) or _have_like_fields(values)


def _are_values_and_objects(values: _Values) -> bool:
    """Say whether scalars of one kind stand beside objects that are alike: a value, or more of it."""
    objects, _, *scalars = (sum(values.counts[kind] for kind in group) for group in _KIND_GROUPS)
    every = sum(sum(values.counts[kind] for kind in group) for group in _KIND_GROUPS)
    return objects > 0 and objects + max(scalars) >= LIKE_KINDS * every and _have_like_fields(values)


def _have_like_fields(values: _Values) -> bool:
    """Say whether objects share their fields, or are dictionaries themselves.

    Fields that hardly any object has are left aside; of the others each object has a fair share. With many
    names it is enough that nearly all have one field, or that the objects are dictionaries themselves.
    """
    if not values.fields or all(map(_DATA_NAME.fullmatch, values.fields)):
        return True
    objects = values.counts[Kind.OBJECT]
    common = [count for count in values.fields.values() if count >= RARE_FIELD * objects]
    if common and sum(common) >= LIKE_FIELDS * objects * len(common):
        return True
    if len(values.names) < MANY_KEYS:
        return False
    return max(values.fields.values()) >= LIKE_KINDS * objects or is_dictionary(values.merged())


def _are_containers(values: _Values) -> bool:
    """Say whether most values are objects or arrays."""
    containers = values.counts[Kind.OBJECT] + values.counts[Kind.ARRAY]
    return 2 * containers > sum(values.names.values())
