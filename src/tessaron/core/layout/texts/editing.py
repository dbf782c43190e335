"""Changing the text of a layout file, with every comment and all else in it left as it was."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from functools import partial
from typing import Any

import tomlkit
from tomlkit.items import Comment, InlineTable, Item, Whitespace
from tomlkit.items import Table as TomlTable

from tessaron.core.base.errors import UsageError
from tessaron.core.base.parsed_values import TomlItem
from tessaron.core.base.visible import in_quotes
from tessaron.core.expressions.expression_faults import ExpressionError, nearest
from tessaron.core.expressions.renaming import rename_column, rename_table


def change_text(text: str, change: Callable[[tomlkit.TOMLDocument], None]) -> str:
    """Return a TOML text after a change to the document it is."""
    document = tomlkit.parse(text)
    change(document)
    return tomlkit.dumps(document)


def section(document: TomlItem, name: str) -> TomlItem:
    """Return a section such as `reading`, made if it is not there."""
    if name not in document:
        document[name] = tomlkit.table()
    return document[name]


def table_in(document: TomlItem, name: str) -> TomlItem:
    """Return a table of the layout.

    Raises:
        UsageError: When there is none of that name.
    """
    tables = document.get("tables", {})
    if name not in tables:
        raise UsageError(f"no table {in_quotes(name)} in the layout; {nearest(name, tables)}")
    return tables[name]


def column_in(document: TomlItem, table: str, name: str) -> TomlItem:
    """Return a column of a table.

    Raises:
        UsageError: When there is none of that name.
    """
    columns = table_in(document, table).get("columns", {})
    if name not in columns:
        raise UsageError(f"no column {in_quotes(name)} in {table}; {nearest(name, columns)}")
    return columns[name]


def set_keys(target: TomlItem, keys: Mapping[str, object]) -> None:
    """Set keys to values; None takes a key away."""
    for key, value in keys.items():
        if value is None:
            if key in target:
                del target[key]
        elif key in target or not isinstance(target, InlineTable):
            target[key] = _plain(value)
        else:
            body = target.value.body
            made = tomlkit.item(_plain(value))
            if body and isinstance(body[-1][1], Whitespace):
                made.trivia.trail = " "
            target[key] = made


def _plain(value: object) -> object:
    return list(value) if isinstance(value, tuple) else value


def set_column(document: TomlItem, table: str, name: str, keys: Mapping[str, TomlItem]) -> None:
    """Add a column at the end, or change keys of one that is there."""
    owner = table_in(document, table)
    if "columns" not in owner:
        owner["columns"] = tomlkit.table()
    columns = owner["columns"]
    if name in columns:
        set_keys(columns[name], keys)
        return
    made = tomlkit.inline_table()
    set_keys(made, keys)
    append_column(columns, name, made)


def set_table(document: TomlItem, name: str, keys: Mapping[str, TomlItem]) -> None:
    """Add a table at the end, or change keys of one that is there; `columns` are mappings of keys."""
    if "tables" not in document:
        document["tables"] = tomlkit.table(is_super_table=True)
    tables = document["tables"]
    if name not in tables:
        tables[name] = tomlkit.table()
    columns = keys.get("columns")
    set_keys(tables[name], {key: value for key, value in keys.items() if key != "columns"})
    for column, inner in (columns or {}).items():
        set_column(document, name, column, inner)


def order_columns(document: TomlItem, table: str, names: Iterable[str]) -> None:
    """Bring columns to the front, in this order; the others stay behind them as they are."""
    owner = table_in(document, table)
    wanted = list(names)
    for name in wanted:
        column_in(document, table, name)
    old = owner["columns"]
    _rebuild(
        owner, "columns", {name: name for name in [*wanted, *(each for each in old if each not in wanted)]}
    )


def _rebuild(owner: TomlItem, key: str, names: Mapping[str, str]) -> None:
    """Give the entries of a table this order and these names, each with the comments in front of it."""
    old = owner[key]
    in_front: dict[str, list[Any]] = {}
    waiting: list[Any] = []
    for each, item in old.value.body:
        if each is None:
            waiting.append(item)
        else:
            in_front[each.key], waiting = waiting, []
    made = tomlkit.table(is_super_table=old.is_super_table())
    for name, new in names.items():
        for item in in_front.get(name, ()):
            made.add(item)
        made.append(new, old[name])
    for item in waiting:
        made.add(item)
    owner[key] = made


def append_column(columns: TomlItem, name: str, item: TomlItem) -> None:
    """Add a column behind the last one, before the blank lines and comments that lead to what follows."""
    body = columns.value.body
    blank = []
    while body and body[-1][0] is None and isinstance(body[-1][1], (Whitespace, Comment)):
        blank.append(body.pop()[1])
    columns.append(name, item)
    for each in reversed(blank):
        columns.add(each)


def rename_column_in(document: TomlItem, table: str, old: str, new: str) -> None:
    """Rename a column, also where keys, carried columns and expressions name it."""
    column_in(document, table, old)
    owner = table_in(document, table)
    if new in owner["columns"]:
        raise UsageError(f"{table} has a column {in_quotes(new)} already")
    _rebuild(owner, "columns", {name: new if name == old else name for name in owner["columns"]})
    _replace_in_list(owner, "key", old, new)
    for name, other in document["tables"].items():
        _replace_in_list(other, "carry", f"{table}.{old}", f"{table}.{new}")
        is_home = name == table
        _change_expressions(other, partial(rename_column, is_home=is_home, table=table, old=old, new=new))


def rename_table_in(document: TomlItem, old: str, new: str) -> None:
    """Rename a table, also where others name it."""
    table_in(document, old)
    tables = document["tables"]
    if new in tables:
        raise UsageError(f"the layout has a table {in_quotes(new)} already")
    _rebuild(document, "tables", {name: new if name == old else name for name in tables})
    for table in document["tables"].values():
        if table.get("parent") == old:
            table["parent"] = new
        _replace_in_list(table, "multiply", old, new)
        for text in list(table.get("carry", [])):
            if text.startswith(f"{old}."):
                _replace_in_list(table, "carry", text, new + text[len(old) :])
        _change_expressions(table, partial(rename_table, old=old, new=new))


def _replace_in_list(owner: TomlItem, key: str, old: str, new: str) -> None:
    values = owner.get(key)
    for index, value in enumerate(values or []):
        if value == old:
            values[index] = new


def _change_expressions(table: TomlItem, change: Callable[[str], str]) -> None:
    holders = [(table, "keep")] if "keep" in table else []
    holders += [(column, "value") for column in table.get("columns", {}).values() if "value" in column]
    for holder, key in holders:
        try:
            changed = change(str(holder[key]))
        except ExpressionError:
            continue
        if changed != holder[key]:
            holder[key] = changed


def set_comment(item: Item, text: str) -> None:
    """Set the comment behind a value; two blanks before it."""
    item.comment(text)
    item.trivia.comment_ws = "  "


def comment_of(item: TomlItem) -> str:
    """Return the comment behind a value, without its sign."""
    return str(item.trivia.comment).lstrip("# ") if isinstance(item, (InlineTable, TomlTable, Item)) else ""
