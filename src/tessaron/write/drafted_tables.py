"""The tables that a run drafts for itself, once all is read: ready to be filled, and as a layout file."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field, replace
from difflib import get_close_matches

from tessaron.core.base.errors import UsageError
from tessaron.core.base.kinds import SCALAR_KINDS
from tessaron.core.base.paths import Origin, format_path, markup_path
from tessaron.core.base.visible import in_quotes
from tessaron.core.layout.around_tables import draft_tables
from tessaron.core.layout.table_set import Column, Table, TableSet, written_column
from tessaron.core.model.level_places import with_paths
from tessaron.core.plan.drafted_plan import flat_plan, plan_of
from tessaron.core.plan.plan import Plans
from tessaron.core.shape.shape_node import ShapeNode
from tessaron.decide.draft_parts import division_of_draft
from tessaron.engine.feeds import Feed
from tessaron.engine.options import Options
from tessaron.engine.reading import SourceReading
from tessaron.write.books.outcome import Counted


@dataclass(frozen=True)
class Drafted:
    """What was drafted.

    Attributes:
        plans: What the run makes tables by.
        text: Returns the layout as a layout file.
        top: The table of the records.
        key: Its natural key or, where keys are digests of the records, its row key.
        possible_keys: Its columns that could be a natural key.
        counted: What the shapes have counted, by table and `table.column`.
        is_flat: Whether it is one table with all that is above it repeated.
    """

    plans: Plans
    text: Callable[[], str]
    top: str
    key: tuple[str, ...] = ()
    possible_keys: tuple[str, ...] = ()
    counted: Mapping[str, Counted] = field(default_factory=dict)
    is_flat: bool = False


def drafted_tables(reading: SourceReading, options: Options) -> Drafted:
    """Return what a run makes of what was read and settled.

    Raises:
        UsageError: When an option names what is not there.
    """
    if options.flat is not None:
        return _drafted_flat(reading, options)
    tables, around = draft_tables(
        reading.records.shape.record,
        reading.top_name(),
        reading.around_records(),
        exact=options.exact,
        division=division_of_draft(reading, options),
    )
    reading.note_unkept(tables)
    tables = _with_keys(_chosen(tables, reading, options), options)
    top = tables.tables[0]
    plans = Plans(
        plan_of(tables, reading.records.shape.record),
        None if around is None else plan_of(around, reading.documents.shape.record),
    )
    counted: dict[str, Counted] = {}
    for name, found in _counted(reading.records, tables):
        shown = written_column(name)
        counted[shown] = Counted(found.read + (counted[shown].read if shown in counted else 0))
    counted |= {} if around is None else dict(_counted(reading.documents, around))
    return Drafted(
        plans,
        lambda: _text_of(reading, options, tables, around),
        top.name,
        _watched_key(top, options),
        tuple(column.name for column in top.columns if _may_be_key(column)),
        counted,
    )


def _text_of(reading: SourceReading, options: Options, tables: TableSet, around: TableSet | None) -> str:
    # Only exports write their layout; a run that makes tables in memory does without.
    from tessaron.core.layout.texts.layout_writing import write_draft
    from tessaron.decide.draft_facts import plain_draft

    head = ["The layout of this export, as Tessaron drafted it: rebuild and verify read it."]
    outer = () if around is None else around.tables
    return write_draft(plain_draft(reading, options, tables, outer, {}, head))


def _drafted_flat(reading: SourceReading, options: Options) -> Drafted:
    from tessaron.decide.draft_facts import tables_of_draft

    tables, around = tables_of_draft(reading, options)
    reading.note_unkept(tables)
    tables = _with_keys(tables, options)
    wanted = (str(options.flat), *options.times)
    table, *multiply = (_table_at(text, tables, reading.records.shape.record) for text in wanted)
    _check_times(tables, table, dict(zip(options.times, multiply, strict=True)), str(options.flat))
    plan = flat_plan(plan_of(tables, reading.records.shape.record), table, multiply, options.with_empty)

    def text() -> str:
        # The model of layouts takes time to load.
        from tessaron.decide.layout_file import Layout

        layout = Layout(_text_of(reading, options, tables, around), "draft")
        return layout.flatten(table, multiply, options.with_empty).text

    return Drafted(Plans(plan), text, "", is_flat=True)


def _table_at(text: str, tables: TableSet, record: ShapeNode) -> str:
    """Return the table whose rows stand at a path, as layouts spell it."""
    from tessaron.core.layout.layout_paths import LayoutPathError, parse_layout_path
    from tessaron.core.layout.path_spelling import rows_path

    by_level = {table.rows: table.name for table in tables.tables}
    spelled = {rows_path(level, record): name for level, name in by_level.items()}
    if record.is_markup:
        name = spelled.get(text.strip().removeprefix("./") or ".")
    else:
        try:
            name = by_level.get(parse_layout_path(text).steps)
        except LayoutPathError as error:
            raise UsageError(str(error)) from error
    if name is not None:
        return name
    near = get_close_matches(text, list(spelled), 3, 0.5) or list(spelled)
    raise UsageError(f"no rows stand at {in_quotes(text)}; there are rows at {', '.join(near)}")


def _check_times(tables: TableSet, flat: str, times: Mapping[str, str], text: str) -> None:
    """Check that rows can be paired: arrays side by side in rows that one of them stands in, too."""
    levels = {table.name: table.rows for table in tables.tables}
    mine = levels[flat]
    for other, name in times.items():
        level = levels[name]
        if level[: len(mine)] == mine or mine[: len(level)] == level:
            raise UsageError(f"{other} does not stand beside {text}: one of them stands in the other")
        between = [
            each for each in levels.values() if each == level[: len(each)] and each != mine[: len(each)]
        ]
        if between != [level]:
            shown = ", ".join(format_path(each) for each in between if each != level)
            raise UsageError(
                f"{other} cannot be paired with {text}: it stands in rows of {shown}, which {text} does not"
            )


def _chosen(layout: TableSet, reading: SourceReading, options: Options) -> TableSet:
    """Return the layout without the tables that patterns left without columns."""
    selection = options.selection()
    if selection is None:
        return layout
    # Paths as text are only read where patterns choose.
    from tessaron.core.layout.layout_paths import path_of_text

    met = [path for _, path in with_paths(reading.records.shape.record)]
    read = path_of_text if reading.xml is None else markup_path
    passed = [path for path in map(read, reading.intake.passed) if path is not None]
    unmet = selection.unmet(met, passed)
    if unmet:
        paths = [format_path(path) for path in (*met, *passed) if path]
        near = get_close_matches(unmet[0], sorted({*paths, *_last_names(paths)}), 3, 0.5)
        hint = f"; near it: {', '.join(near)}" if near else "; tessaron survey shows all paths"
        raise UsageError(f"nothing is met by the pattern {in_quotes(unmet[0])}{hint}")
    kept: list[Table] = []
    for table in reversed(layout.tables):
        has_children = any(other.parent == table.name or other.through == table.name for other in kept)
        has_data = any(
            not isinstance(column.path[-1:] and column.path[-1], Origin) for column in table.columns
        )
        if has_data or has_children or table.parent is None:
            kept.append(table)
    return replace(layout, tables=tuple(reversed(kept)))


def _last_names(paths: list[str]) -> list[str]:
    return [path.rsplit(".", 1)[-1] for path in paths]


def _with_keys(layout: TableSet, options: Options) -> TableSet:
    """Return the layout with the keys that were asked for."""
    top = layout.tables[0]
    names = [column.name for column in top.columns]
    unknown = [name for name in options.key if name not in names]
    if unknown:
        raise UsageError(
            f"no column {in_quotes(unknown[0])} in {top.name} for its key; there are {', '.join(names)}"
        )
    if options.keys == "sequence":
        return replace(layout, natural_key=tuple(options.key))
    tables = tuple(replace(table, key_type="text") for table in layout.tables)
    return replace(layout, tables=tables, natural_key=tuple(options.key))


def _watched_key(top: Table, options: Options) -> tuple[str, ...]:
    if options.key:
        return tuple(options.key)
    return (top.row_key,) if options.keys == "digest" else ()


def _may_be_key(column: Column) -> bool:
    plain = column.type.name in ("integer", "text", "uuid", "decimal")
    return plain and not _is_origin(column)


def _is_origin(column: Column) -> bool:
    """Say whether a column holds what is known of a row besides its values."""
    return bool(column.path) and isinstance(column.path[-1], Origin)


def _counted(feed: Feed, layout: TableSet) -> Iterator[tuple[str, Counted]]:
    """Yield what a shape, which saw the records as they were read, has counted."""
    for table in layout.tables:
        if table.once:
            continue
        node = feed.shape.node_at(table.rows)
        if table.within_key is None and not table.only_filled:
            # The rows of structures that contain themselves, and of parts, are counted by verify alone.
            yield table.name, Counted(0 if node is None else node.row_count)
        for column in table.columns:
            node = feed.shape.node_at(column.path)
            if node is None or _is_origin(column):
                continue
            empty = node.empty_texts if node.is_markup and column.type.name != "text" else 0
            read = sum(node.counts[kind] for kind in SCALAR_KINDS) - empty
            yield f"{table.name}.{column.name}", Counted(read)
