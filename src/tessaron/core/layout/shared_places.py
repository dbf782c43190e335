"""Tables of a structure that stands at several places: one for each place, until they are written."""

from __future__ import annotations

from collections.abc import Callable, Iterator

from tessaron.core.base.paths import MARKUP, Path, Step, format_path
from tessaron.core.layout.layout_model import LayoutPart, TablePart
from tessaron.core.layout.layout_paths import LayoutPathError, parse_layout_path
from tessaron.core.layout.table_set import member_name
from tessaron.core.layout.toml_lines import Keys

Say = Callable[[Keys, str], None]
_NOT_BESIDE = ("rows", "parallel", "parent", "around", "only_filled", "with_empty", "multiply")
"""What a shared table cannot have: each of these speaks of rows at one place."""


def with_places(part: LayoutPart, say: Say) -> LayoutPart:
    """Return a layout in which each shared table stands once for each of its places.

    Args:
        part: The layout.
        say: Is told of mistakes.
    """
    if all(table.shared is None for table in part.tables.values()):
        return part
    tables: dict[str, TablePart] = {}
    for name, table in part.tables.items():
        if table.shared is None:
            tables[name] = table
        elif _is_right(name, table, part, say):
            for number, place in enumerate(table.shared):
                tables[member_name(name, number)] = _at(table, place)
    tables = {name: _looked_up(each, tables, part) for name, each in tables.items()}
    return part.model_copy(update={"tables": tables})


def _is_right(name: str, table: TablePart, part: LayoutPart, say: Say) -> bool:
    keys: Keys = ("tables", name, "shared")
    beside = [key for key in _NOT_BESIDE if key in table.model_fields_set and getattr(table, key)]
    if beside:
        say(keys, f"a table with shared has no {beside[0]}: its rows stand at several places")
        return False
    places = table.shared or []
    if not places:
        say(keys, "expected at least one path")
    again = next((place for place in places if places.count(place) > 1), None)
    if again is not None:
        say(keys, f"{again} stands there twice")
    wrong = [
        place for place in places if part.reading.format == "json" and not place.lstrip().startswith("$")
    ]
    if wrong:
        say(keys, f"{wrong[0]}: expected a path from the record, which begins with $")
    return bool(places) and again is None and not wrong


def _at(table: TablePart, place: str) -> TablePart:
    return table.model_copy(update={"shared": [place], "rows": place})


def _looked_up(table: TablePart, tables: dict[str, TablePart], part: LayoutPart) -> TablePart:
    """Return a table whose values each have one row, with the rows that the objects at its place stand in."""
    if table.shared is None or table.once is None:
        return table
    is_markup = part.reading.format == "xml"
    place = table.shared[0]
    steps = _steps(place, is_markup)
    rows = max(_rows_above(steps, tables, is_markup), key=lambda found: len(found[0]), default=((), ""))
    text = rows[1] or ("." if is_markup else "$")
    columns = {
        name: column if column.path is None else column.model_copy(
            update={"path": _below(column.path, place, len(rows[0]), is_markup)}
        )
        for name, column in table.columns.items()
    }  # fmt: skip
    return table.model_copy(update={"rows": text, "columns": columns})


def _rows_above(
    steps: tuple[Step, ...], tables: dict[str, TablePart], is_markup: bool
) -> Iterator[tuple[Path, str]]:
    """Yield where rows of other tables stand that hold a place, with how the layout spells it."""
    for other in tables.values():
        if other.once is None and not other.around and isinstance(other.rows, str):
            above = _steps(other.rows, is_markup)
            if steps[: len(above)] == above:
                yield above, other.rows


def _steps(text: str, is_markup: bool) -> Path:
    if is_markup:
        return tuple(MARKUP + step.strip() for step in text.split("/") if step.strip() != ".")
    try:
        return parse_layout_path(text).steps
    except LayoutPathError:
        # It is said where the path is used.
        return ()


def _below(path: str, place: str, rows: int, is_markup: bool) -> str:
    """Return the path of a column from the row that its object stands in, for one from the object."""
    if not is_markup:
        inside = format_path(_steps(place, is_markup)[rows:])[1:]
        return f"@{inside}{path.lstrip()[1:]}" if path.lstrip().startswith("@") else path
    names = [step.strip() for step in place.split("/") if step.strip() != "."][rows:]
    return "/".join((*names, *([] if path.strip() == "." else [path]))) or "."
