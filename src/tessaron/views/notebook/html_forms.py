"""Results as HTML for notebooks: colours come from the notebook, nothing is loaded, no script is run."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from functools import cache
from html import escape
from importlib.resources import files
from itertools import islice
from typing import TYPE_CHECKING, Any

from tessaron.core.base.visible import visible
from tessaron.views.diagram.placing import place
from tessaron.views.diagram.svg_drawing import svg_of
from tessaron.views.diagram.table_links import Drawn, drawn_tables, single_tables
from tessaron.views.grid import shown
from tessaron.views.page.finding_sheets import comparison_sheets, history_sheets, verification_sheets
from tessaron.views.page.page_model import Sheet, SheetCell
from tessaron.views.page.run_sheets import account_sheets, other_sheets
from tessaron.views.preview_view import row_values, type_names
from tessaron.views.rows_view import cell_text
from tessaron.views.survey_outline import distinct_cell, kinds_cell, percent, type_cell, values_alone
from tessaron.views.terminal import count
from tessaron.views.verification_view import verdict_lines

if TYPE_CHECKING:
    from tessaron.core.survey.noticing import SurveyNote
    from tessaron.core.survey.survey_entries import PathEntry
    from tessaron.decide.layout_file import Layout
    from tessaron.prove.verifying import Verification
    from tessaron.repeat.comparing import Comparison
    from tessaron.repeat.run_history import History
    from tessaron.views.survey_view import Survey
    from tessaron.write.books.receipt import Receipt
    from tessaron.write.loading import Loaded
    from tessaron.write.made_tables import Tables

_MOST_PATHS, _MOST_NOTES, _MOST_TABLES, _ROWS, _SHEET_ROWS = 400, 60, 40, 5, 40


@cache
def _style() -> str:
    return files("tessaron.views.notebook").joinpath("notebook.css").read_text("utf-8")


def _framed(*parts: str) -> str:
    return f'<style>{_style()}</style><div class="tessaron">{"".join(parts)}</div>'


def _text(value: object) -> str:
    return escape(visible(str(value)))


def _table(headings: Sequence[str], rows: Iterable[str], numeric: Sequence[str] = ()) -> str:
    head = "".join(
        f'<th class="{"number" if name in numeric else ""}">{_text(name)}</th>' for name in headings
    )
    return f"<table><thead><tr>{head}</tr></thead><tbody>{''.join(rows)}</tbody></table>"


def _cells(*cells: str) -> str:
    return f"<tr>{''.join(cells)}</tr>"


def survey_html(survey: Survey) -> str:
    """Return the paths with their fill, and the notes."""
    names = ("path", "rows", "filled", "type", "distinct", "values")
    rows = [_path_row(entry) for entry in survey.entries[:_MOST_PATHS]]
    more = len(survey.entries) - _MOST_PATHS
    rest = f"<p>… and {more:,} more paths</p>" if more > 0 else ""
    what = count(survey.records, "record") + (", a sample" if survey.is_partial else "")
    table = _table(names, rows, ("rows", "distinct"))
    notes = "".join(_notes(survey.notes))
    where = _text(", ".join(survey.sources[:3]))
    title = f"<p><b>{_text(what)}</b>, {count(len(survey.entries), 'path')} in {where}</p>"
    told = f"<details open><summary>{count(len(survey.notes), 'note')}</summary>{notes}</details>"
    return _framed(title, f'<div class="tall">{table}</div>', rest, told)


def _path_row(entry: PathEntry) -> str:
    fill = f"{entry.fill_rate:.3f}"
    tint = f"rgba(70,150,200,.35) {entry.fill_rate:.1%}, rgba(128,128,128,.12) 0"
    back = f"background: linear-gradient(90deg, {tint})"
    is_whole = entry.opens_level and fill == "1.000"
    filled = "" if is_whole else f'<span class="fill" style="{back}">{percent(entry.fill_rate)}</span>'
    values = "; ".join(filter(None, (kinds_cell(entry), values_alone(entry, 80))))
    return _cells(
        f'<td class="path" style="padding-left: {min(entry.depth, 14) * 1.1:.1f}em">{_text(entry.name)}</td>',
        f'<td class="number">{f"{entry.rows:,}" if entry.opens_level else ""}</td>',
        f"<td>{filled}</td>",
        f"<td>{_text(type_cell(entry))}</td>",
        f'<td class="number">{distinct_cell(entry)}</td>',
        f'<td class="long faint">{_text(values)}</td>',
    )


def _notes(notes: Sequence[SurveyNote]) -> Iterator[str]:
    yield "<ul>"
    for note in notes[:_MOST_NOTES]:
        example = f" e.g. <code>{_text(note.example)}</code>" if note.example else ""
        advice = f" <small>{_text(note.advice)}</small>" if note.advice else ""
        path = f'<span class="path">{_text(note.path)}</span>'
        yield f"<li>{path}: {_text(note.text)}{example}{advice}</li>"
    yield f"<li>… and {len(notes) - _MOST_NOTES:,} more</li>" if len(notes) > _MOST_NOTES else ""
    yield "</ul>"


def _diagram(drawn: Drawn) -> str:
    if not drawn.boxes:
        return ""
    return svg_of(place(drawn, 200), f"{len(drawn.boxes):,} tables and how they refer to each other")


def layout_html(layout: Layout) -> str:
    """Return the diagram of the tables, and the text of the file."""
    tables = layout.compiled(secret=b"any").written().tables
    drawn = drawn_tables(tables, single_tables(layout.part))
    title = f"<p><b>{count(len(drawn.boxes), 'table')}</b>, layout {_text(layout.source)}</p>"
    text = f"<details><summary>the layout file</summary><pre>{_text(layout.text)}</pre></details>"
    return _framed(title, _diagram(drawn), text)


def tables_html(tables: Tables) -> str:
    """Return the diagram of the tables, and the first rows of each."""
    counts = {name: table.num_rows for name, table in tables.items()}
    drawn = drawn_tables(tables.layout.tables, (), counts)
    more = len(tables) - _MOST_TABLES
    rows = "".join(_first_rows(tables, name) for name in islice(tables, _MOST_TABLES))
    rest = f"<p>… and {more:,} more tables</p>" if more > 0 else ""
    told = f"<p><b>{count(tables.record_count, 'record')}</b>, {count(len(tables), 'table')}</p>"
    return _framed(told, _diagram(drawn), rows, rest)


def _first_rows(tables: Tables, name: str) -> str:
    plan = next(table for table in tables.layout.tables if table.name == name)
    data, types = tables[name].slice(0, _ROWS), type_names(plan)
    numeric = [each.startswith(("integer", "decimal", "double")) for each in types]
    head = "".join(
        f'<th class="{"number" if is_number else ""}">{_text(column)}<br><small>{_text(kind)}</small></th>'
        for column, kind, is_number in zip(data.column_names, types, numeric, strict=True)
    )
    rows = [
        _cells(*(_value(value, is_number) for value, is_number in zip(row, numeric, strict=True)))
        for row in row_values(data, plan)
    ]
    body = f"<table><thead><tr>{head}</tr></thead><tbody>{''.join(rows)}</tbody></table>"
    total = tables[name].num_rows
    said = f"{_text(name)} ({min(_ROWS, total):,} of {count(total, 'row')})"
    return f'<details><summary>{said}</summary><div class="tall">{body}</div></details>'


def _value(value: object, is_number: bool) -> str:
    text = cell_text(value)
    if text is None:
        return '<td class="faint"><i>null</i></td>'
    return f'<td class="{"number" if is_number else ""}">{_text(shown(text, 60))}</td>'


def _sheet(sheet: Sheet, is_open: bool = True) -> str:
    if not sheet.rows and not sheet.told:
        return ""
    headings, rows = sheet.shown(_SHEET_ROWS)
    body = [
        _cells(*(_sheet_cell(cell, name in sheet.numeric) for cell, name in zip(row, headings, strict=True)))
        for row in rows
    ]
    told = f"<p class='faint'>{_text(sheet.told)}</p>" if sheet.told else ""
    table = _table(headings, body, tuple(sheet.numeric)) if rows else ""
    more = sheet.told_of_rest(_SHEET_ROWS)
    rest = f"<p>{_text(more)}</p>" if more else ""
    state = " open" if is_open else ""
    return f"<details{state}><summary>{_text(sheet.title)}</summary>{told}{table}{rest}</details>"


def _sheet_cell(cell: SheetCell, is_number: bool) -> str:
    kinds = " ".join(filter(None, ("number" if is_number else "", cell.tone)))
    text = _text(cell.text)
    return f'<td class="{kinds}">{f"<code>{text}</code>" if cell.is_code or cell.path else text}</td>'


def _run(receipt: dict[str, Any], title: str, is_fine: bool) -> str:
    words = "all of it is in the tables" if is_fine else "something is not in the tables"
    verdict = f'<p><b>{_text(title)}</b> <span class="{"good" if is_fine else "bad"}">{words}</span></p>'
    sheets = [_sheet(each) for each in account_sheets(receipt)]
    sheets += [_sheet(each, is_open=False) for each in other_sheets(receipt)]
    return _framed(verdict, *sheets)


def receipt_html(receipt: Receipt) -> str:
    """Return what became of records and values, types, checks, sources."""
    told = f"{count(receipt.records, 'record')} in, {count(receipt.rows, 'row')} out, "
    told += f"{count(len(receipt.tables), 'table')} in {receipt.target}, {receipt.seconds:.2f} seconds:"
    return _run(receipt.to_dict(), told, receipt.passed)


def loaded_html(loaded: Loaded) -> str:
    """Return what a load did, as a receipt tells it."""
    return receipt_html(loaded.receipt)


def verification_html(found: Verification) -> str:
    """Return the verdict, the differences, the checks."""
    verdict, *small = verdict_lines(found)
    tone = "good" if found.passed else "bad"
    told = "".join(f"<p class='faint'>{_text(line)}</p>" for line in small)
    return _framed(f'<p class="{tone}">{_text(verdict)}</p>{told}', *map(_sheet, verification_sheets(found)))


def comparison_html(found: Comparison) -> str:
    """Return the changes, those that break most first."""
    if not found.changes:
        return _framed('<p class="good">no change: what comes fits what is there</p>')
    counts = ", ".join(f"{name}: {number:,}" for name, number in found.counts().items())
    told = f"<p><b>{_text(found.old)}</b> and <b>{_text(found.new)}</b>: {_text(counts)}</p>"
    return _framed(told, *map(_sheet, comparison_sheets(found)))


def history_html(history: History) -> str:
    """Return the runs, and what had changed in them."""
    return _framed(f"<p><b>{_text(history.target)}</b></p>", *map(_sheet, history_sheets(history)))
