"""Drafting: the layout that a settled shape suggests."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Literal

from tessaron.core.base.kinds import Kind
from tessaron.core.base.naming import Names, snake_case
from tessaron.core.base.paths import ENTRY, TEXT_STEP, Origin, Path, local_name, qualified_name
from tessaron.core.layout.shared_drafting import FoundPlace, SharedNode, SharedTables
from tessaron.core.layout.table_set import (
    ORDINAL,
    PARENT_KEY,
    PLACE,
    ROW_KEY,
    THROUGH_KEY,
    WITHIN_KEY,
    Column,
    Table,
    TableSet,
)
from tessaron.core.model.division import UNDIVIDED, Division
from tessaron.core.model.level_places import has_column, places_on_rows
from tessaron.core.model.parting import RowPart
from tessaron.core.shape.inference import infer_type
from tessaron.core.shape.recursion import has_several_ways, level_between
from tessaron.core.shape.shape_node import ShapeNode
from tessaron.core.shape.structure import is_wrapper
from tessaron.core.types.written import written_of

NameStyle = Literal["path", "leaf"]
SHARE_A_PREFIX = 3
"""So many columns that all begin alike do so to no purpose."""
VALUE_NAME = "value"
"""The column for elements (or records) that are scalars themselves."""
INNER_ARRAY_NAME, INNER_DICTIONARY_NAME = "items", "entries"
"""What the table of an array or a dictionary without a name of its own is called after its parent."""
_SHOWN_ORIGINS = frozenset(Origin) - {
    Origin.WITHIN, Origin.THROUGH, Origin.CONTENT, Origin.JSON, Origin.REST, Origin.ORDER,
}  # fmt: skip


@dataclass(frozen=True, slots=True)
class _Place:
    """A node with its path, and the words that its name is made of below its level."""

    node: ShapeNode
    path: Path
    words: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class _Level:
    """A level that becomes a table."""

    node: ShapeNode
    path: Path
    name: str
    parent: str | None
    owner: ShapeNode
    is_shared: bool = False


def draft_layout(
    record: ShapeNode,
    name: str,
    names: Names | None = None,
    rows: Path = (),
    style: NameStyle = "path",
    exact: bool = False,
    division: Division = UNDIVIDED,
) -> TableSet:
    """Return the layout that Tessaron proposes: a table for the records, every array and every dictionary.

    Args:
        record: The settled shape (see `structure.settle`).
        name: Name of the top table.
        names: Names of tables that are taken.
        rows: The path of the top level.
        style: Whether columns are named by their path below the level, or by as little of it as is needed.
        exact: Whether every table keeps the rest of its rows; else those where strings and numbers mix.
        division: What has tables of its own besides.
    """
    drafting = _Drafting(names or Names(), style, exact, division)
    top = drafting.names.claim(name, otherwise="records")
    shared = SharedTables(record, division.shared, drafting.names, drafting.rows_of)
    tables, found = drafting.below(_Level(record, rows, top, None, record), shared.places)
    tables = [_name_through(table, record, drafting.tables_by_level) for table in tables]
    return TableSet((*tables, *shared.at(found)), exact=exact)


class _Drafting:
    """Drafts the tables of levels.

    Attributes:
        names: Hands out the names of tables.
        tables_by_level: The tables by the `id` of their level.
    """

    def __init__(self, names: Names, style: NameStyle, exact: bool, division: Division):
        self.names, self._style, self._exact, self._parts = names, style, exact, division.parts
        self._reasons = {part.paths[0]: part.why for part in division.parts if part.is_object}
        self.tables_by_level: dict[int, str] = {}

    def below(self, top: _Level, known: Mapping[int, SharedNode]) -> tuple[list[Table], list[FoundPlace]]:
        """Return the tables of a level and of all below it, and the places of shared structures there.

        Args:
            top: The level.
            known: The nodes of these structures, by `id`.
        """
        tables: list[Table] = []
        found: list[FoundPlace] = []
        pending = [top]
        while pending:
            level = pending.pop()
            self.tables_by_level[id(level.node)] = level.name
            places = list(_places_on(level))
            found += (
                FoundPlace(known[id(place.node)].number, place.path, level.name)
                for place in places
                if id(place.node) in known and known[id(place.node)].by
            )
            parts = [] if top.is_shared else self._parts
            own = [part for part in parts if part.level == level.path and not part.is_object]
            base, *beside = _draft_tables(
                level, _stays(places, known), own, self.names, self._style, self._keeps_rest(places, known)
            )
            why = "" if top.is_shared else self._reasons.get(level.path[:-1], "")
            tables += [replace(base, why=why), *beside]
            below: list[_Level] = []
            for place in places:
                for node in place.node.levels_below():
                    assert node.step is not None
                    if id(node) in known and not known[id(node)].by:
                        rows = (*place.path, node.step)
                        found.append(FoundPlace(known[id(node)].number, rows, level.name))
                    else:
                        below.append(_level_at(node, place, level, self.names))
            pending.extend(reversed(below))
        return tables, found

    def _keeps_rest(self, places: list[_Place], known: Mapping[int, SharedNode]) -> bool:
        nodes = [place.node for place in places]
        for node in list(nodes):
            shared = known.get(id(node))
            if shared is not None and shared.whole is not None:
                # What is looked up has one type for all places.
                nodes += [below for below, _ in places_on_rows(shared.whole, ())]
        return self._exact or any(_is_mixed(node) for node in nodes if has_column(node))

    def rows_of(
        self, node: ShapeNode, name: str, known: Mapping[int, SharedNode]
    ) -> tuple[list[Table], list[FoundPlace]]:
        """Return the tables of the rows of a shared structure, with paths from the row."""
        return self.below(_Level(node, (), name, "", ShapeNode(), is_shared=True), known)


def _stays(places: list[_Place], known: Mapping[int, SharedNode]) -> list[_Place]:
    """Return what stands in rows, but for what is looked up by the identity of a shared structure."""
    gone: set[int] = set()
    identities: dict[int, ShapeNode] = {}
    for place in places:
        shared = known.get(id(place.node))
        if shared is None or shared.whole is None:
            continue
        gone |= {id(below) for below, _ in places_on_rows(place.node, ())}
        identities |= {id(place.node.at(path)): shared.whole.at(path) for path in shared.by}
    return [
        replace(place, node=identities.get(id(place.node), place.node))
        for place in places
        if id(place.node) not in gone or id(place.node) in identities
    ]


def _places_on(level: _Level) -> Iterator[_Place]:
    """Yield the level's own node and all members below it, objects inside objects included, in order."""
    pending = [_Place(level.node, level.path)]
    while pending:
        place = pending.pop()
        yield place
        # An element of XML that only holds others of one name says nothing in their names.
        above = place.words[:-1] if is_wrapper(place.node) else place.words
        pending.extend(
            _Place(node, (*place.path, str(node.step)), _words(above, str(node.step)))
            for node in reversed(place.node.ordered_members())
        )


def _words(above: tuple[str, ...], step: str) -> tuple[str, ...]:
    """Return the words for a member; text of XML beside something else is named as what it stands in."""
    return above if step == TEXT_STEP else (*above, step)


def _level_at(node: ShapeNode, place: _Place, level: _Level, names: Names) -> _Level:
    assert node.step is not None
    inner = INNER_DICTIONARY_NAME if node.step is ENTRY else INNER_ARRAY_NAME
    # The name under which the nodes of a tree come together tells nothing.
    own = place.words[:-1] or place.words if place.node.is_gathered else place.words
    words = tuple(map(local_name, own)) or (inner,)
    name = names.claim(level.name, *words, otherwise=inner)
    return _Level(node, (*place.path, node.step), name, level.name, place.node, level.is_shared)


def _draft_tables(
    level: _Level,
    places: list[_Place],
    parts: Sequence[RowPart],
    names: Names,
    style: NameStyle,
    keeps_rest: bool,
) -> Iterator[Table]:
    """Yield the table of a level, and those of what is taken off its rows."""
    shown = [place for place in places if has_column(place.node)]
    taken = {path: part for part in parts for path in part.paths if part.is_whole}
    exactly = {path: part for part in parts for path in part.paths if not part.is_whole}
    groups: dict[int, list[_Place]] = {}
    for place in shown:
        above = (taken[path] for path in _prefixes(place.path, level.path) if path in taken)
        part = exactly.get(place.path) or next(above, None)
        groups.setdefault(id(part), []).append(place)
    yield _draft_table(level, groups.get(id(None), []), style, keeps_rest)
    for part in parts:
        if part.by:
            both = [place for place in shown if place.path == part.by] + groups.get(id(part), [])
            name = names.claim(*part.words, otherwise="lookup")
            yield replace(_draft_lookup(level, name, both, style), why=part.why)
            continue
        name = names.claim(level.name, *part.words, otherwise="part")
        yield replace(_draft_part(level, name, groups.get(id(part), []), style), why=part.why)


def _prefixes(path: Path, level: Path) -> Iterator[Path]:
    """Yield the paths from below a level down to a path."""
    return (path[:count] for count in range(len(level) + 1, len(path) + 1))


def _columns_of(shown: list[_Place], names: Names, style: NameStyle) -> list[Column]:
    columns = []
    words = _leaf_words(shown) if style == "leaf" else _telling_words(shown)
    for place, own in zip(shown, _local_words(words), strict=True):
        inferred = infer_type(place.node)
        name = names.claim(*(own or (VALUE_NAME,)), otherwise="field")
        written = written_of(place.node.counts, place.node.numbers, inferred.type, inferred.reading)
        columns.append(
            Column(name, place.path, inferred.type, inferred.reading, inferred.note, written=written)
        )
    return columns


def _draft_part(level: _Level, name: str, shown: list[_Place], style: NameStyle) -> Table:
    names = Names()
    columns = _columns_of(shown, names, style)
    row_key, parent_key = (names.claim_of(name, key) for key in (ROW_KEY, PARENT_KEY))
    return Table(name, level.path, level.name, row_key, parent_key, None, tuple(columns), only_filled=True)


def _draft_lookup(level: _Level, name: str, shown: list[_Place], style: NameStyle) -> Table:
    """Return a table in which each value of the first of its columns has one row."""
    names = Names()
    columns = tuple(_columns_of(shown, names, style))
    row_key = names.claim_of(name, ROW_KEY)
    return Table(name, level.path, None, row_key, None, None, columns, once=(columns[0].name,))


def _draft_table(level: _Level, shown: list[_Place], style: NameStyle, keeps_rest: bool) -> Table:
    names = Names()
    columns = _columns_of(shown, names, style)
    keys = [ROW_KEY] if level.parent is None else [ROW_KEY, PARENT_KEY, ORDINAL]
    keys += [PLACE] * level.is_shared
    is_recursive = level.owner.is_recursive and level.node.step is level.owner.rows_step
    keys += [WITHIN_KEY] * is_recursive + [THROUGH_KEY] * (
        is_recursive and level_between(level.owner) is not None
    )
    named = {key: names.claim_of(level.name, key) for key in keys}
    origins = [node for step, node in level.node.children.items() if step in _SHOWN_ORIGINS]
    if is_recursive and level.node is not level.owner:
        origins.append(_known_node(Origin.DEPTH, Kind.INTEGER))
        if has_several_ways(level.owner):
            origins.append(_known_node(Origin.WAY, Kind.TEXT))
    if keeps_rest:
        columns.append(_origin_column(_known_node(Origin.REST, Kind.TEXT), level, names))
    known = [_origin_column(node, level, names) for node in sorted(origins, key=_order_of_origin)]
    table = Table(
        level.name,
        level.path,
        level.parent,
        named[ROW_KEY],
        named.get(PARENT_KEY),
        named.get(ORDINAL),
        (*known, *columns),
        within_key=named.get(WITHIN_KEY),
        through_key=named.get(THROUGH_KEY),
        is_single=level.owner.is_single,
        place_key=named.get(PLACE),
    )
    documents = [column.name for column in known if column.path[-1] is Origin.DOCUMENT]
    return replace(table, document_key=documents[0]) if documents else table


def _local_words(words: list[tuple[str, ...]]) -> list[tuple[str, ...]]:
    """Return names of XML without their prefixes, but where these tell columns apart."""
    local = [tuple(map(local_name, own)) for own in words]
    counts = Counter("_".join(map(snake_case, own)) for own in local)
    return [
        tuple(map(qualified_name, full)) if counts["_".join(map(snake_case, own))] > 1 else own
        for own, full in zip(local, words, strict=True)
    ]


def _telling_words(places: list[_Place]) -> list[tuple[str, ...]]:
    """Return the words of the path of each, but for those in front that all have: they tell nothing."""
    words = [place.words for place in places]
    shared = 0
    while len(words) >= SHARE_A_PREFIX and all(len(own) > shared + 1 for own in words):
        if len({own[shared] for own in words}) > 1:
            break
        shared += 1
    if any(snake_case(own[shared])[:1].isdigit() for own in words if shared):
        return words
    return [own[shared:] for own in words]


def _leaf_words(places: list[_Place]) -> list[tuple[str, ...]]:
    """Return for each column the last words of its path: so many that no other has the same."""
    counts = [min(1, len(place.words)) for place in places]
    while True:
        taken: dict[str, list[int]] = {}
        for index, place in enumerate(places):
            own = place.words[len(place.words) - counts[index] :]
            taken.setdefault("_".join(snake_case(local_name(word)) for word in own), []).append(index)
        longer = [
            index
            for indices in taken.values()
            if len(indices) > 1
            for index in indices
            if counts[index] < len(places[index].words)
        ]
        if not longer:
            return [
                place.words[len(place.words) - count :] for place, count in zip(places, counts, strict=True)
            ]
        for index in longer:
            counts[index] += 1


def _known_node(step: Origin, kind: Kind) -> ShapeNode:
    node = ShapeNode(step)
    node.counts[kind] = 1
    return node


def _order_of_origin(node: ShapeNode) -> int:
    return list(Origin).index(node.step)  # type: ignore[arg-type]


def _origin_column(node: ShapeNode, level: _Level, names: Names) -> Column:
    assert isinstance(node.step, Origin)
    inferred = infer_type(node)
    name = names.claim_of(level.name, node.step.value)
    return Column(name, (*level.path, node.step), inferred.type, inferred.reading)


def _name_through(table: Table, record: ShapeNode, tables_by_level: dict[int, str]) -> Table:
    if table.through_key is None:
        return table
    return replace(table, through=tables_by_level[id(level_between(record.at(table.rows[:-1])))])


def _is_mixed(node: ShapeNode) -> bool:
    """Say whether a text column of JSON holds more than strings: the text does not tell what it was then."""
    kinds = node.scalar_kinds()
    return (
        not node.is_markup and bool(kinds) and kinds != [Kind.TEXT] and infer_type(node).type.name == "text"
    )
