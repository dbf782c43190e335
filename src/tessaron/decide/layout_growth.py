"""Growing a layout: what new data has beside it gets columns and tables, or a wider type."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace

from tessaron.core.base.kinds import Kind
from tessaron.core.base.paths import ELEMENT, Origin, Path
from tessaron.core.layout.table_set import written_name
from tessaron.core.layout.texts.editing import (
    change_text,
    column_in,
    comment_of,
    set_column,
    set_comment,
    set_keys,
)
from tessaron.core.plan.compiling import CompiledLayout
from tessaron.core.plan.layout_updating import update_text
from tessaron.core.plan.plan import ColumnPlan, LayingPlan
from tessaron.core.shape.inference import infer_type
from tessaron.core.shape.shape_node import ShapeNode
from tessaron.core.types.column_types import TEXT, ColumnType
from tessaron.core.types.widening import wider_type
from tessaron.decide.draft_facts import plain_draft, tables_of_draft
from tessaron.decide.layout_file import Layout
from tessaron.decide.layout_options import with_layout
from tessaron.engine.options import Options
from tessaron.engine.reading import SourceReading

Widens = Callable[[ColumnType, ColumnType], bool]
"""Says whether a column of a type can become one of another."""


@dataclass(frozen=True, slots=True)
class Growth:
    """What a layout has become.

    Attributes:
        layout: The layout, the same one where nothing is new.
        new: Columns and tables that were added, each with its path.
        widened: Columns with a wider type, each with the type before and now.
    """

    layout: Layout
    new: tuple[str, ...] = ()
    widened: tuple[str, ...] = ()


def seen_as(layout: Layout, options: Options) -> Options:
    """Return options by which a source is read as a layout has it, so that what is new can be told."""
    part = layout.part
    # Which parts are tables of their own the layout says, not the draft.
    return replace(
        options,
        undivided=True,
        name=part.reading.name or _top_table(layout),
        records=part.reading.records,
        as_documents=part.reading.records is None,
        envelope=part.reading.envelope,
        duplicate_keys=part.reading.duplicate_keys,
        format=part.reading.format,
        white_space=part.reading.white_space,
        namespaces=part.reading.namespaces,
        xsd=part.reading.xsd,
        dictionaries=tuple(part.structure.dictionaries),
        not_dictionaries=tuple(part.structure.not_dictionaries),
        names=part.reading.names,
    )


def _top_table(layout: Layout) -> str:
    """Return the table of the records themselves, or else the first."""
    plans = layout.compiled(secret=b"any").records.tables
    return next((plan.name for plan in plans if not plan.level and plan.table), layout.tables[0])


def levels_and_fields(known: LayingPlan | None) -> tuple[list[Path], list[Path]]:
    """Return where rows of a plan stand, be it a single one, and where values of its columns do."""
    tables = () if known is None else known.tables
    sources = (column.source for table in tables for column in table.columns)
    return [table.level for table in tables], [source.path for source in sources if source is not None]


def grown(
    layout: Layout, compiled: CompiledLayout, reading: SourceReading, options: Options, widens: Widens
) -> Growth:
    """Return a layout that has a place for all that was read.

    Args:
        layout: The layout.
        compiled: The same, ready to run.
        reading: What was read, by options of `seen_as`, and settled with `levels_and_fields`.
        options: These options.
        widens: Says whether a column can get a wider type; where not, values go to the rejects.
    """
    record = reading.records.shape.record
    if not record.row_count:
        return Growth(layout)
    tables, around = tables_of_draft(reading, options)
    draft = plain_draft(reading, options, tables, () if around is None else around.tables, {}, [])
    text, changes = update_text(layout.text, compiled, draft, marks_unmet=False)
    wider: dict[tuple[str, str], tuple[ColumnType, ColumnType]] = {}
    rests: dict[str, str] = {}
    for plan, root in ((compiled.around, reading.documents.shape.record), (compiled.records, record)):
        if plan is not None:
            found = _wider_columns(layout, plan, root, widens)
            wider |= found
            rests |= _rests_needed(Layout(text, layout.source), plan, root, found)
    if not changes.new and not wider and not rests:
        return Growth(layout)

    def widen(document: object) -> None:
        for table in rests:
            set_column(
                document, table, _free_name(layout, table), {"origin": Origin.REST.value, "type": "text"}
            )
        for (table, name), (old, new) in wider.items():
            item = column_in(document, table, name)
            set_keys(item, {"type": new.spelled()})
            comment = comment_of(item)
            said = f"was {old.spelled()}"
            set_comment(item, f"{said}; {comment}" if comment else said)

    told = tuple(
        f"{table}.{name}: {old.spelled()} → {new.spelled()}" for (table, name), (old, new) in wider.items()
    )
    also = tuple(f"{table}.{_free_name(layout, table)}: {said}" for table, said in rests.items())
    return Growth(Layout(change_text(text, widen), layout.source), (*changes.new, *also), told)


def _rests_needed(
    layout: Layout,
    plan: LayingPlan,
    record: ShapeNode,
    wider: Mapping[tuple[str, str], tuple[ColumnType, ColumnType]],
) -> dict[str, str]:
    """Return the tables in which a column of texts gets numbers or booleans, with what is told of that.

    What they were only the rest of the row tells, so such a table needs a column for it.
    """
    found: dict[str, str] = {}
    for table in plan.tables:
        name = written_name(table.name)
        if (
            table.only_filled
            or table.once
            or any(column.get("origin") == Origin.REST.value for column in layout.columns(name).values())
        ):
            continue
        for column in table.columns:
            node = _node_of(column, record)
            if node is None or node.is_markup or not _is_plain(layout, name, column.name):
                continue
            kinds = [kind.name.lower() for kind in node.scalar_kinds() if kind is not Kind.TEXT]
            if kinds and wider.get((name, column.name), (None, column.type))[1] == TEXT:
                found.setdefault(name, f"{column.name}, which is text, comes as {' and '.join(kinds)}, too")
    return found


def _free_name(layout: Layout, table: str) -> str:
    """Return a name that no column of a table has, for the rest of its rows."""
    name = Origin.REST.value
    while name in layout.columns(table):
        name += "_"
    return name


def _wider_columns(
    layout: Layout, plan: LayingPlan, record: ShapeNode, widens: Widens
) -> dict[tuple[str, str], tuple[ColumnType, ColumnType]]:
    """Return the columns whose type does not hold all that was read, with that type and the wider one."""
    found: dict[tuple[str, str], tuple[ColumnType, ColumnType]] = {}
    for table in plan.tables:
        name = written_name(table.name)
        for column in table.columns:
            node = _node_of(column, record)
            if node is None or not node.scalar_kinds():
                continue
            # Of a shared table the values at all its places go into one column.
            before = found.get((name, column.name), (column.type, column.type))[1]
            needed = wider_type(before, _type_of(node, before))
            if needed in (None, before) or not _is_plain(layout, name, column.name):
                continue
            assert needed is not None
            found[name, column.name] = column.type, needed
    return {name: types for name, types in found.items() if widens(*types)}


def _type_of(node: ShapeNode, before: ColumnType) -> ColumnType:
    """Return the type of values; of whole numbers for a column of decimals, as few digits as they have."""
    found = infer_type(node).type
    ends = (node.least_integer, node.most_integer)
    if before.name != "decimal" or found.name != "integer" or None in ends:
        return found
    return ColumnType("decimal", max(len(str(abs(int(each or 0)))) for each in ends), 0)


def _is_plain(layout: Layout, table: str, column: str) -> bool:
    """Say whether nothing more is said of a column than where it comes from and its type."""
    return set(layout.columns(table).get(column, {"none"})) <= {"path", "type"}


def _node_of(column: ColumnPlan, record: ShapeNode) -> ShapeNode | None:
    """Return what was read at the place of a plain column."""
    source = column.source
    if source is None or column.fold is not None or any(isinstance(step, Origin) for step in source.path):
        return None
    node = record
    for step in source.path:
        node = node.fold or node
        if step not in node.children and step is not ELEMENT and ELEMENT in node.children:
            return None
        if step not in node.children:
            return None
        node = node.children[step]
    return node


class GrowingLayout:
    """A layout that grows with what a run reads.

    Args:
        layout: The layout.
        options: The options of the run.
        widens: As in `grown`.

    Attributes:
        options: Those by which the sources are read.
        growth: What the layout has become, once all is read.
    """

    def __init__(self, layout: Layout, options: Options, widens: Widens):
        self._widens = widens
        self._layout, self._compiled = layout, layout.compiled(options.strict)
        self.options = with_layout(seen_as(layout, options), self._compiled)
        self.growth = Growth(layout)

    def prepare(self, reading: SourceReading) -> None:
        """Let a reading find what the layout knows, as it knows it."""
        reading.finds_trees, reading.gathered = False, self._compiled.records.gathered

    def grow(self, reading: SourceReading) -> CompiledLayout:
        """Settle what was read, and return the layout that takes all of it, ready to run."""
        reading.settle(*levels_and_fields(self._compiled.records))
        self.growth = grown(self._layout, self._compiled, reading, self.options, self._widens)
        return self.growth.layout.compiled(self.options.strict)
