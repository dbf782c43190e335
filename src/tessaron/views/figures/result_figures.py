"""A figure for each result that has one."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from tessaron.views.diagram.table_links import drawn_tables
from tessaron.views.figures.drawn_diagram import draw_diagram
from tessaron.views.figures.harbour_figure import INK, MARK, NOTE, SEA, SHOAL, HarbourFigure
from tessaron.views.grid import shorten
from tessaron.views.survey_outline import percent, type_cell
from tessaron.views.terminal import count

if TYPE_CHECKING:
    from tessaron.core.survey.survey_entries import PathEntry
    from tessaron.views.survey_view import Survey
    from tessaron.write.books.receipt import Receipt
    from tessaron.write.made_tables import Tables

_MOST_PATHS, _MOST_TABLES, _MOST_REASONS, _LONGEST = 36, 24, 6, 44


def survey_figure(survey: Survey) -> HarbourFigure:
    """Return how full the paths are, with their types and what there is to note of them."""
    entries = _chosen(survey)
    noted = {note.path for note in survey.notes}
    figure = HarbourFigure(f"{count(survey.records, 'record')} in {', '.join(survey.sources[:2])}")
    axes = figure.add_subplot()
    places = range(len(entries))
    axes.barh(places, [1.0] * len(entries), color="#e9f1f5", height=0.72)
    axes.barh(places, [entry.fill_rate for entry in entries], color=SHOAL, height=0.72)
    axes.set_yticks(list(places), [shorten(entry.path, _LONGEST) for entry in entries], family="monospace")
    for place, entry in enumerate(entries):
        axes.text(0.995, place, percent(entry.fill_rate), ha="right", va="center", color=INK)
        mark = " ✱" if entry.path in noted else ""
        axes.text(
            1.01, place, f"{type_cell(entry)}{mark}", ha="left", va="center", color=MARK if mark else INK
        )
    axes.set_ylim(len(entries) - 0.4, -0.6)
    axes.set_xlim(0, 1)
    axes.set_xticks([0, 0.25, 0.5, 0.75, 1], ["0 %", "25 %", "50 %", "75 %", "100 % filled"])
    more = sum(bool(entry.type) for entry in survey.entries) - len(entries)
    rest = f"; {more:,} more paths are not shown" if more else ""
    figure.say(f"the share of rows that have a value; {NOTE} {count(len(survey.notes), 'note')}{rest}")
    return figure


def _chosen(survey: Survey) -> list[PathEntry]:
    """Return paths that hold values; of very many those that stand further out."""
    holding = [entry for entry in survey.entries if entry.type]
    kept = sorted(range(len(holding)), key=lambda place: (holding[place].depth, place))[:_MOST_PATHS]
    return [holding[place] for place in sorted(kept)]


def tables_figure(tables: Tables) -> HarbourFigure:
    """Return the diagram of the tables."""
    rows = {name: table.num_rows for name, table in tables.items()}
    figure = HarbourFigure(f"{count(len(tables), 'table')} of {count(tables.record_count, 'record')}")
    draw_diagram(figure, drawn_tables(tables.layout.tables, (), rows))
    return figure


def receipt_figure(receipt: Receipt) -> HarbourFigure:
    """Return what became of the records, and the rows of each table."""
    figure = HarbourFigure(f"{count(receipt.records, 'record')} in, {count(receipt.rows, 'row')} out")
    steps, tables = figure.subplots(1, 2, width_ratios=(1, 1.6))
    _draw_records(steps, receipt)
    shown = receipt.tables[:_MOST_TABLES]
    places = range(len(shown))
    tables.barh(places, [table.rows for table in shown], color=SHOAL, height=0.7)
    tables.set_yticks(list(places), [shorten(table.name, 34) for table in shown], family="monospace")
    widest = max((table.rows for table in shown), default=1)
    for place, table in enumerate(shown):
        tables.text(table.rows + widest * 0.015, place, f"{table.rows:,}", va="center", color=INK)
    tables.set_ylim(max(len(shown), 10) - 0.4, -0.6)
    tables.set_xlim(0, widest * 1.2)
    tables.set_xticks([])
    tables.set_title("rows of each table", loc="left")
    more = len(receipt.tables) - len(shown)
    rest = f"; {count(more, 'more table')} not shown" if more else ""
    figure.say(f"{receipt.format} in {receipt.target}, {receipt.seconds:.2f} seconds{rest}")
    return figure


def _draw_records(axes: Any, receipt: Receipt) -> None:
    filtered = next((each.filtered for each in receipt.balance if each.what == "records"), 0)
    read = sum(source.records + source.rejected for source in receipt.sources)
    rows = [("read", read, SEA), ("taken by filters", filtered, "#9db7c4")]
    rows += [("rejected", receipt.rejected, MARK), ("in the tables", receipt.records, SHOAL)]
    places = range(len(rows))
    axes.barh(places, [number for _, number, _ in rows], color=[colour for _, _, colour in rows], height=0.6)
    axes.set_yticks(list(places), [name for name, _, _ in rows])
    for place, (_, number, _) in enumerate(rows):
        axes.text(number + max(read, 1) * 0.02, place, f"{number:,}", va="center", color=INK)
    reasons = list(receipt.reasons.items())[:_MOST_REASONS]
    told = "\n".join(f"{number:,} × {code}" for code, number in reasons)
    told = f"rejects, by reason:\n{told}" if reasons else "no rejects"
    axes.text(0, len(rows) - 0.2, told, va="top", color=MARK if reasons else INK)
    axes.set_ylim(len(rows) + 5.4, -0.6)
    axes.set_xlim(0, max(read, 1) * 1.25)
    axes.set_xticks([])
    axes.set_title("records", loc="left")
