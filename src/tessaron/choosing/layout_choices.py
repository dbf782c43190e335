"""The choices that a person makes on a page, as changes of a layout; each can be taken back."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import Any

from tessaron.core.base.errors import UsageError
from tessaron.core.base.visible import in_quotes
from tessaron.core.layout.layout_model import TablePart
from tessaron.core.layout.texts.table_blocks import block_of
from tessaron.core.layout.texts.tidying import tidied
from tessaron.decide.layout_file import Layout

Choice = Mapping[str, Any]
"""What is chosen: `do` says what, the rest what with."""

_TYPE_OF_FOLD = {
    "joined": "text",
    "count": "integer",
    "count_distinct": "integer",
    "any": "boolean",
    "all": "boolean",
    "json": "json",
}
"""The type of a folded column; that of the values where none is given here."""
_ENDS_OF_ROWS = ("[*]", ".*")


class LayoutChoices:
    """A layout on its way.

    Args:
        layout: The layout as it is.
        draft: The layout that is proposed: what was left out comes back as it stands there.

    Attributes:
        layout: The layout with all choices made so far.
    """

    def __init__(self, layout: Layout, draft: Layout):
        self.layout = layout
        self.draft = draft
        self._past: list[Layout] = []
        self._undone: list[Layout] = []

    @property
    def steps(self) -> int:
        """How many choices can be taken back."""
        return len(self._past)

    def make(self, choice: Choice) -> None:
        """Make a choice.

        Raises:
            UsageError: When it cannot be made.
            LayoutError: When it is not one that a layout allows; nothing has changed then.
        """
        name = str(choice.get("do", ""))
        if name not in _CHOICES:
            raise UsageError(f"expected one of {', '.join(_CHOICES)}, got {in_quotes(name)}")
        made = _CHOICES[name](self, choice)
        if name != "text":
            made = Layout(tidied(self.layout.text, made.text), made.source)
        if made != self.layout:
            self._past.append(self.layout)
            self._undone.clear()
            self.layout = made

    def take_back(self) -> None:
        """Take the last choice back; does nothing where there is none."""
        if self._past:
            self._undone.append(self.layout)
            self.layout = self._past.pop()

    def make_again(self) -> None:
        """Make the choice again that was taken back last; does nothing where there is none."""
        if self._undone:
            self._past.append(self.layout)
            self.layout = self._undone.pop()


def _said(choice: Choice, name: str) -> str:
    """Return what is said of a choice.

    Raises:
        UsageError: When it is not said.
    """
    if choice.get(name) is None:
        raise UsageError(f"{choice.get('do')}: {in_quotes(name)} is not said")
    return str(choice[name])


def _part_of(layout: Layout, table: str) -> TablePart:
    """Return a table of a layout.

    Raises:
        UsageError: When there is none of that name.
    """
    # Its columns are asked for, as that says which tables there are.
    layout.columns(table)
    return layout.part.tables[table]


def _text(choices: LayoutChoices, choice: Choice) -> Layout:
    return Layout(_said(choice, "text"), choices.layout.source)


def _leave_out(choices: LayoutChoices, choice: Choice) -> Layout:
    return choices.layout.remove_columns(_said(choice, "table"), _said(choice, "column"))


def _leave_table_out(choices: LayoutChoices, choice: Choice) -> Layout:
    name, layout = _said(choice, "table"), choices.layout
    if len(layout.tables) == 1:
        raise UsageError("the last table stays: a layout without tables makes nothing")
    return layout.remove_table(name)


def _take_in(choices: LayoutChoices, choice: Choice) -> Layout:
    """Take in what the draft has, and the layout has not: a column, or a table with what is below it."""
    table = _said(choice, "table")
    if choice.get("column") is None:
        return _with_tables(choices, [table])
    there = _same_table(choices, table)
    layout = choices.layout if there is not None else _without_columns(_with_tables(choices, [table]), table)
    name = _said(choice, "column")
    keys = choices.draft.columns(table).get(name)
    if keys is None:
        raise UsageError(f"the draft has no column {in_quotes(name)} in {table}")
    target, remark = there or table, choices.draft.remark(table, name)
    free = _free_name(name, layout.columns(target))
    made = layout.set_column(target, free, **keys)
    return made.set_remark(target, free, remark) if remark else made


def _without_columns(layout: Layout, table: str) -> Layout:
    return layout.remove_columns(table, *layout.columns(table))


def _with_tables(choices: LayoutChoices, names: Sequence[str], layout: Layout | None = None) -> Layout:
    """Return the layout, or another, with tables of the draft that are not among them."""
    layout = layout or choices.layout
    for name in names:
        if _same_table(choices, name) is None:
            block = block_of(choices.draft.text, name)
            layout = Layout(f"{layout.text.rstrip()}\n\n{block}", layout.source)
    return layout


def _same_table(choices: LayoutChoices, drafted: str) -> str | None:
    """Return the table that a drafted one is now, whatever its name; None where it is left out."""
    if drafted not in choices.draft.part.tables:
        raise UsageError(f"the draft has no table {in_quotes(drafted)}")
    wanted = _place(choices.draft.part.tables[drafted])
    tables = choices.layout.part.tables
    if drafted in tables and _place(tables[drafted]) == wanted:
        return drafted
    return next((name for name, part in tables.items() if _place(part) == wanted), None)


def _place(part: TablePart) -> tuple[object, ...]:
    return (str(part.rows), tuple(part.shared or ()), part.around, part.only_filled, part.once_columns())


def _free_name(name: str, taken: Mapping[str, object]) -> str:
    number, free = 2, name
    while free.lower() in {each.lower() for each in taken}:
        free, number = f"{name}_{number}", number + 1
    return free


def _rename(choices: LayoutChoices, choice: Choice) -> Layout:
    table, new = _said(choice, "table"), _said(choice, "to").strip()
    if not new:
        raise UsageError("a name is not empty")
    if choice.get("column") is None:
        return choices.layout.rename_table(table, new)
    return choices.layout.rename_column(table, _said(choice, "column"), new)


def _type(choices: LayoutChoices, choice: Choice) -> Layout:
    return choices.layout.set_column(
        _said(choice, "table"), _said(choice, "column"), type=_said(choice, "type").strip()
    )


def _keep(choices: LayoutChoices, choice: Choice) -> Layout:
    return choices.layout.set_table(_said(choice, "table"), keep=_said(choice, "keep").strip() or None)


def _key(choices: LayoutChoices, choice: Choice) -> Layout:
    names = [name.strip() for name in _said(choice, "key").split(",") if name.strip()]
    return choices.layout.set_table(_said(choice, "table"), key=names or None)


def _fold(choices: LayoutChoices, choice: Choice) -> Layout:
    """Fold the values of a column into one column of a table above."""
    layout, fold = choices.layout, _said(choice, "fold")
    table, name, into = (_said(choice, key) for key in ("table", "column", "into"))
    part = _part_of(layout, table)
    column = part.columns.get(name)
    if column is None or column.path is None:
        raise UsageError("only a column with a path is folded")
    path = _seen_from(_whole_path(column.path, part), layout, into)
    type_name = _TYPE_OF_FOLD.get(fold, "double" if fold == "mean" else column.type or "text")
    free = _free_name(f"{table.removeprefix(f'{into}_')}_{name}_{fold}", layout.columns(into))
    return layout.set_column(into, free, path=path, fold=fold, type=type_name)


def _as_json(choices: LayoutChoices, choice: Choice) -> Layout:
    """Keep what stands at the place of a table, or of an object, as one column of the table above."""
    layout = choices.layout
    is_xml = layout.part.reading.format == "xml"
    kept_as = "xml" if is_xml else "json"
    if choice.get("path") is not None:
        return _object_as_json(layout, _said(choice, "table"), _said(choice, "path"), kept_as)
    table = _said(choice, "table")
    rows, into = _only_rows(layout, table), _table_above(layout, table)
    end = "" if is_xml else next(filter(rows.endswith, _ENDS_OF_ROWS), "")
    inside = rows.removesuffix(end)
    for name in _at_or_below(layout, rows):
        layout = layout.remove_table(name)
    path = _seen_from(inside, layout, into)
    return layout.set_column(into, _name_of(inside, layout, into), path=path, type=kept_as)


def _object_as_json(layout: Layout, table: str, path: str, kept_as: str) -> Layout:
    part = _part_of(layout, table)
    whole = {
        name: _whole_path(column.path, part)
        for name, column in part.columns.items()
        if column.path is not None
    }
    inner = [name for name, each in whole.items() if each.startswith((f"{path}.", f"{path}[", f"{path}/"))]
    if not inner:
        raise UsageError(f"no column of {table} stands below {path}")
    for name in _at_or_below(layout, path):
        if name != table:
            layout = layout.remove_table(name)
    if len(inner) < len(part.columns):
        layout = layout.remove_columns(table, *inner)
        inner = []
    layout = layout.set_column(
        table, _name_of(path, layout, table), path=_seen_from(path, layout, table), type=kept_as
    )
    return layout.remove_columns(table, *inner) if inner else layout


def _as_tables(choices: LayoutChoices, choice: Choice) -> Layout:
    """Make tables again, as the draft has them, of what was kept as one column, or left out."""
    rows = _said(choice, "path")
    names = [name for name in _at_or_below(choices.draft, rows) if _same_table(choices, name) is None]
    if not names:
        raise UsageError(f"the draft has no table at {rows} that the layout has not")
    return _with_tables(choices, names, _without_whole(choices.layout, rows))


def _without_whole(layout: Layout, rows: str) -> Layout:
    """Return a layout without the columns that hold all that stands at a path."""
    places = {rows, *(rows.removesuffix(end) for end in _ENDS_OF_ROWS)}
    for table, part in layout.part.tables.items():
        for name, column in part.columns.items():
            is_whole = column.type in ("json", "xml") and column.path is not None and column.fold is None
            if is_whole and _whole_path(str(column.path), part) in places:
                layout = layout.remove_columns(table, name)
    return layout


def _flatten(choices: LayoutChoices, choice: Choice) -> Layout:
    return choices.layout.flatten(_said(choice, "table"), with_empty=bool(choice.get("with_empty")))


def _only_rows(layout: Layout, table: str) -> str:
    part = layout.part.tables.get(table)
    if part is None or not isinstance(part.rows, str) or part.rows in ("$", "."):
        raise UsageError(f"{table} has no place of its own inside of a record")
    return part.rows


def _at_or_below(layout: Layout, rows: str) -> Iterator[str]:
    """Yield the tables whose rows stand at a path, or below it."""
    base = rows
    for end in _ENDS_OF_ROWS:
        base = base.removesuffix(end)
    for name, part in layout.part.tables.items():
        own = part.rows if isinstance(part.rows, str) else ""
        if not part.around and (own in (base, rows) or own.startswith((f"{base}[", f"{base}.", f"{base}/"))):
            yield name


def _table_above(layout: Layout, table: str) -> str:
    """Return the nearest table whose rows stand above those of another."""
    rows = _only_rows(layout, table)
    best, length = "", -1
    for name, part in layout.part.tables.items():
        own = part.rows if isinstance(part.rows, str) else None
        if name == table or own is None or part.around or part.only_filled or part.once:
            continue
        is_above = own in ("$", ".") or rows.startswith((f"{own}.", f"{own}[", f"{own}/"))
        if is_above and len(own) > length:
            best, length = name, len(own)
    if not best:
        raise UsageError(f"no table of the layout stands above {table}")
    return best


def _whole_path(path: str, part: TablePart) -> str:
    """Return a path of a column from the record."""
    rows = part.rows if isinstance(part.rows, str) else "$"
    if path.startswith("@") and rows.startswith("$"):
        return rows + path[1:]
    if rows.startswith("$") or rows == ".":
        return path
    return rows if path == "." else f"{rows}/{path}"


def _seen_from(path: str, layout: Layout, table: str) -> str:
    """Return a path from the record as a column of a table spells it."""
    rows = _part_of(layout, table).rows
    if not isinstance(rows, str) or rows in ("$", "."):
        return path
    below = path[len(rows) :]
    if not path.startswith(rows):
        raise UsageError(f"{path} does not stand below {rows}, the rows of {table}")
    return f"@{below}" if rows.startswith("$") else below.lstrip("/") or "."


def _name_of(path: str, layout: Layout, table: str) -> str:
    names = re.findall(r"[\w-]+", path)
    return _free_name((names[-1] if names else "value").lower(), layout.columns(table))


_CHOICES: dict[str, Callable[[LayoutChoices, Choice], Layout]] = {
    "leave_out": _leave_out,
    "leave_table_out": _leave_table_out,
    "take_in": _take_in,
    "rename": _rename,
    "type": _type,
    "keep": _keep,
    "key": _key,
    "fold": _fold,
    "as_json": _as_json,
    "as_tables": _as_tables,
    "flatten": _flatten,
    "text": _text,
}
