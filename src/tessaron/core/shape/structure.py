"""Settling the structure of a shape: what is a dictionary, what counts as an array, what contains itself."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass

from tessaron.core.base.kinds import SCALAR_KINDS, Kind
from tessaron.core.base.paths import ELEMENT, TEXT_STEP, Origin, Path, Step, format_path
from tessaron.core.shape.dictionaries import is_dictionary
from tessaron.core.shape.recursion import fold_below, holds_another, inner_nodes, is_of_one_kind
from tessaron.core.shape.shape import Shape
from tessaron.core.shape.shape_node import MOST_NAMES, TOO_MANY_NAMES, ShapeNode
from tessaron.core.tape.gathering import Gathered


@dataclass(frozen=True, slots=True)
class StructureRules:
    """What the user says about single paths, as JSONPath; all else is recognised.

    Attributes:
        dictionaries: Objects that are dictionaries.
        not_dictionaries: Objects that are not.
        gathered: Trees whose nodes have come together: what they stand in is a dictionary.
        is_markup: Whether the records are elements of XML: what stands there once and there several times
            is an array always, and names are hardly ever data.
    """

    dictionaries: Collection[str] = ()
    not_dictionaries: Collection[str] = ()
    gathered: Sequence[Gathered] = ()
    is_markup: bool = False


@dataclass(frozen=True, slots=True)
class StructureNote:
    """Something recognised about a path, for people."""

    path: Path
    text: str


@dataclass(frozen=True, slots=True)
class _Visit:
    node: ShapeNode
    path: Path


def settle(shape: Shape, rules: StructureRules | None = None) -> list[StructureNote]:
    """Change `shape` into the form that tables are made of, and return what was recognised.

    After this, members of dictionaries are entries, objects among arrays are elements, and every structure
    that contains itself stands once. `conform` brings fragments into the same form.
    """
    rules = rules or StructureRules()
    notes: list[StructureNote] = []
    for node in shape.record.walk() if rules.is_markup else ():
        node.is_markup = True
    _settle_below(_Visit(shape.record, ()), rules, notes)
    _fold_structures(shape.record, rules, notes)
    if rules.is_markup:
        for visit in _visits(_Visit(shape.record, ())):
            settle_text(visit.node)
            _note_wrapper(visit.node, visit.path, notes)
        _settle_late_scalars(shape.record)
    # What was recognised where a structure stood that has been folded since is recognised elsewhere, too.
    paths = {visit.path for visit in _visits(_Visit(shape.record, ()))}
    return [note for note in dict.fromkeys(notes) if note.path in paths]


def mark_levels(record: ShapeNode, levels: Iterable[Path], fields: Iterable[Path] = ()) -> None:
    """Let what stands at some levels of a shape be rows once it is settled, even where each stands alone.

    Args:
        record: The shape.
        levels: The levels.
        fields: Paths of values: an object in which such a one stands is no row.
    """
    objects = {path[:count] for path in fields for count, step in enumerate(path) if isinstance(step, str)}
    for level in levels:
        nodes = [record]
        for count, step in enumerate(level):
            if step is not ELEMENT:
                nodes = [node.children[step] for node in nodes if step in node.children]
                continue
            for node in nodes if level[:count] not in objects else ():
                node.repeats |= isinstance(node.step, str)
            nodes += [node.children[step] for node in nodes if step in node.children]


def part_off(node: ShapeNode) -> None:
    """Make the objects at a place of a settled shape rows of their own, of which each row above has one."""
    node.is_single = True
    lift(node)


def lift(node: ShapeNode) -> None:
    """Make what stands at a place of a settled shape rows, as if some of it stood in arrays."""
    node.repeats = True
    _settle_lifted(node, (), [])
    if node.is_markup:
        # What is to become of text in the elements is said where they stand now.
        element = node.child(ELEMENT)
        element.text_rule, node.text_rule = node.text_rule, ""
        element.emptied, node.emptied = node.emptied, None
        settle_text(element)


def put_back(node: ShapeNode) -> None:
    """Make objects that were parted off what they were: no rows of their own."""
    element = node.children.pop(ELEMENT)
    node.children |= element.children
    node.is_single = node.repeats = node.is_lifted = node.lifts_scalars = False
    node.counts[Kind.OBJECT], node.counts[Kind.ARRAY], node.lifted_count = element.counts[Kind.OBJECT], 0, 0
    if node.is_markup:
        node.counts[Kind.NULL] = element.counts[Kind.NULL]
        node.text_rule, node.emptied = element.text_rule, element.emptied


def _visits(top: _Visit) -> Iterator[_Visit]:
    """Yield the nodes from one down, each before those below it, as they are then, but what is folded."""
    pending = [top]
    while pending:
        visit = pending.pop()
        node = visit.node
        if node.moved_to is None and node.fold is None:
            yield visit
            pending.extend(_Visit(child, (*visit.path, step)) for step, child in _ordered(node))


def _settle_below(top: _Visit, rules: StructureRules, notes: list[StructureNote]) -> None:
    """Settle dictionaries and what counts as an array, from one node down; once more changes nothing."""
    for visit in _visits(top):
        drop_partial_words(visit.node)
        _settle_dictionary(visit.node, visit.path, rules, notes)
        _settle_lifted(visit.node, visit.path, notes)


def _fold_structures(record: ShapeNode, rules: StructureRules, notes: list[StructureNote]) -> None:
    """Fold what contains itself, from the outermost down, where each row can still be told."""
    for visit in _visits(_Visit(record, ())):
        node = visit.node
        if isinstance(node.step, str) and not holds_another(node) and _can_be_folded(visit, rules):
            fold_below(node)
            notes.append(
                StructureNote(visit.path, "contains itself: one table whose rows refer to each other")
            )
            _settle_below(visit, rules, notes)


def _can_be_folded(visit: _Visit, rules: StructureRules) -> bool:
    """Say whether a structure contains itself so that each row can say where it stands.

    What is folded brings more to the same places, which may become dictionaries or arrays by that. So it is
    tried on an outline: then the way to each row within may lead through one level at the most.
    """
    if not any(is_of_one_kind(visit.node, inner) for inner, _ in inner_nodes(visit.node)):
        return False
    outer = visit.node.outline()
    if not fold_below(outer):
        return False
    _settle_below(_Visit(outer, visit.path), rules, [])
    folded = [node for node in outer.walk() if node.fold is outer]
    ways = [(node, between) for node, between in inner_nodes(outer) if node.fold is outer]
    levels = {id(between) for _, between in ways if between is not None}
    is_same = outer.is_dictionary == visit.node.is_dictionary
    return is_same and len(levels) <= 1 and len(ways) == len(folded)


def settle_names(shape: Shape, rules: StructureRules, settled: Mapping[Path, bool]) -> dict[Path, bool]:
    """Return for which objects it is known now whether they are dictionaries, if some are none after all.

    An object of many names is taken for one while it is read. Where that was wrong the shape has to be made
    anew, with what this returns; else it returns `settled`.
    """
    known = dict(settled)
    wrong = False
    pending = [_Visit(shape.record, ())] if any(node.names for node in shape.record.walk()) else []
    while pending:
        visit = pending.pop()
        node = visit.node
        if node.names:
            known[visit.path] = _is_wanted(node, visit.path, rules)
            wrong |= not known[visit.path]
        if not node.names or known[visit.path]:
            if not node.is_dictionary and node.members() and _is_wanted(node, visit.path, rules):
                node.become_dictionary()
                known[visit.path] = True
            pending.extend(_Visit(child, (*visit.path, step)) for step, child in _ordered(node))
    return known if wrong else dict(settled)


def _is_wanted(node: ShapeNode, path: Path, rules: StructureRules) -> bool:
    """Say whether the objects at a path are dictionaries, by what the user says or else by the rule."""
    if any(tree.holds(path) for tree in rules.gathered):
        return True
    shown = format_path(path) if rules.dictionaries or rules.not_dictionaries else ""
    return shown in rules.dictionaries or (
        not rules.is_markup and shown not in rules.not_dictionaries and is_dictionary(node)
    )


def drop_partial_words(node: ShapeNode) -> None:
    """Forget words among other texts: for yes and no, and for what is no finite number."""
    for name in ("boolean", "double"):
        words = [reading for reading in node.readings if reading.name == name]
        if sum(node.readings[word] for word in words) < node.text_count():
            for word in words:
                del node.readings[word]


def object_paths(shape: Shape, wanted: Collection[str]) -> set[str]:
    """Return which of the wanted paths, as JSONPath, lead to an object in a shape that is not settled yet."""
    if not wanted:
        return set()
    found: set[str] = set()
    pending: list[tuple[ShapeNode, Path]] = [(shape.record, ())]
    while pending:
        node, path = pending.pop()
        if node.counts[Kind.OBJECT] and format_path(path) in wanted:
            found.add(format_path(path))
        pending.extend((child, (*path, step)) for step, child in node.children.items())
    return found


def _ordered(node: ShapeNode) -> list[tuple[Step, ShapeNode]]:
    return sorted(node.children.items(), key=lambda item: str(item[0]), reverse=True)


def take_as_dictionary(node: ShapeNode) -> None:
    """Make dictionaries of the objects at a place of a settled shape; what was settled below is once more."""
    count = len(node.members())
    node.become_dictionary()
    node.names, node.name_count = None, count
    for below in node.levels_below():
        _settle_below(_Visit(below, ()), StructureRules(is_markup=node.is_markup), [])


def _settle_dictionary(
    node: ShapeNode, path: Path, rules: StructureRules, notes: list[StructureNote]
) -> None:
    names = len(node.names or node.members()) or node.name_count
    node.is_gathered |= any(tree.holds(path) for tree in rules.gathered)
    if names and not node.keeps_members and (node.name_count or _is_wanted(node, path, rules)):
        if not node.is_dictionary:
            node.become_dictionary()
        node.names, node.name_count = None, names
        count = f"more than {MOST_NAMES:,}" if names == TOO_MANY_NAMES else f"{names:,}"
        tree = next((tree for tree in rules.gathered if tree.path == path), None)
        text = f"dictionary: {count} names are keys of rows"
        if tree is not None:
            text = f"tree: {count} names below {format_path(tree.root)} are nodes, gathered here"
        if rules.not_dictionaries and format_path(path) in rules.not_dictionaries:
            text += "; so many are never columns, whatever is asked"
        notes.append(StructureNote(path, text))


def _settle_lifted(node: ShapeNode, path: Path, notes: list[StructureNote]) -> None:
    """Make objects elements where arrays of objects stand too, or where the structure contains itself."""
    element = node.children.get(ELEMENT)
    objects = node.counts[Kind.OBJECT]
    among_arrays = element is not None and objects > 0 and _may_be_rows(node, element)
    among_arrays &= node.step is not None and node.step is not ELEMENT
    if node.is_markup and (node.counts[Kind.ARRAY] or node.is_recursive or node.repeats):
        _lift_all(node)
    elif node.is_dictionary or not (among_arrays or node.is_lifted or (node.repeats and objects)):
        return
    if among_arrays and not (node.is_recursive or node.is_markup or node.is_lifted):
        notes.append(
            StructureNote(path, f"{objects:,} single objects stand where arrays do; they are rows too")
        )
    node.is_lifted = True
    element = node.child(ELEMENT)
    folded = [below for below in node.walk() if below.fold is node] if node.is_recursive else []
    for each in (node, *folded):
        element.row_count += each.unlifted_count
        element.counts[Kind.OBJECT] += each.unlifted_count
        each.lifted_count = each.counts[Kind.OBJECT]
    for step, child in list(node.children.items()):
        # The key of an entry stays with it.
        if step is not ELEMENT and not isinstance(step, Origin):
            del node.children[step]
            if step in element.children:
                element.children[step].take_over(child)
            else:
                element.children[step] = child
    if node.is_markup:
        node.count_as_arrays()


def _may_be_rows(node: ShapeNode, element: ShapeNode) -> bool:
    """Say whether objects are rows beside those in arrays: these are objects too, or all of them are hollow.

    A layout of these tables, which knows only their paths, takes it so too (see `skeleton_of`).
    """
    if element.counts[Kind.OBJECT]:
        return True
    return not element.occurrences and not element.levels_below() and not _holds_anything(node)


def _holds_anything(node: ShapeNode) -> bool:
    """Say whether any value, null or array stands in the members of the objects here."""
    pending = list(node.members().values())
    while pending:
        member = pending.pop()
        if (
            member.levels_below()
            or member.fold is not None
            or member.occurrences > member.counts[Kind.OBJECT]
        ):
            return True
        pending += member.members().values()
    return False


def _lift_all(node: ShapeNode) -> None:
    """Make all that stands here once in XML an element, as it stands here several times elsewhere."""
    node.lifts_scalars = True
    element = node.child(ELEMENT)
    count = node.move_scalars(element, Kind.ARRAY, with_nulls=True)
    element.row_count += count
    node.profile_single_elements(count)


def _settle_late_scalars(record: ShapeNode) -> None:
    """Bring elements that hold text only to their place, where folding brought some to a settled node.

    Where a structure contains itself again they are rows like the others.
    """
    moved = 1
    while moved:
        moved = 0
        for node in list(record.walk()):
            owner = node.fold if node.fold is not None else node
            if (node.fold is not None or node.lifts_scalars) and ELEMENT in owner.children:
                element = owner.children[ELEMENT]
                count = node.move_scalars(element, Kind.ARRAY, with_nulls=True)
                element.row_count += count
                moved += count
            settle_text(owner.children.get(ELEMENT, owner))


def settle_text(node: ShapeNode) -> None:
    """Bring the text of elements that hold nothing else to where it stands beside something else."""
    scalars = sum(node.counts[kind] for kind in SCALAR_KINDS)
    has_parts = node.counts[Kind.OBJECT] or TEXT_STEP in node.children
    if not has_parts or not node.members() or not scalars:
        return
    if scalars > node.empty_texts or TEXT_STEP in node.children:
        node.text_rule = "member"
        text = node.child(TEXT_STEP)
        node.move_scalars(text, Kind.OBJECT, with_nulls=False)
        if node.emptied is not None:
            # What counted as nothing before is text like the other now.
            text.absorb_own(node.emptied)
            node.emptied = None
    else:
        node.text_rule = "empty"
        node.emptied = node.emptied or ShapeNode()
        node.move_scalars(node.emptied, Kind.OBJECT, with_nulls=False)


def _note_wrapper(node: ShapeNode, path: Path, notes: list[StructureNote]) -> None:
    if is_wrapper(node) and path:
        only = format_path((str(next(iter(node.children))),))
        notes.append(StructureNote(path, f"wrapper: it only holds {only}, and becomes no table or column"))


def is_wrapper(node: ShapeNode) -> bool:
    """Say whether the element of XML here only holds elements of one name that repeat, or such a wrapper."""
    if not node.is_markup or not isinstance(node.step, str) or len(node.children) != 1:
        return False
    if sum(node.counts) != node.counts[Kind.OBJECT]:
        return False
    (step, child), *_ = node.children.items()
    return isinstance(step, str) and (ELEMENT in child.children or is_wrapper(child))


def forget_records(shape: Shape, names: tuple[str, ...]) -> None:
    """Take the place of the records out of the shape of documents, if nothing stands there any more."""
    nodes = [shape.record]
    for name in names:
        below = nodes[-1].children.get(name)
        if below is None:
            return
        nodes.append(below)
    if names and not any(
        node.scalar_kinds() or (node.levels_below() and node.levels_below()[0].occurrences)
        for node in nodes[-1].walk()
    ):
        del nodes[-2].children[names[-1]]
