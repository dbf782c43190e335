"""Results as text: what the commands print of them."""

from __future__ import annotations

import io
from typing import TYPE_CHECKING

from rich.console import Console
from rich.table import Table

from tessaron.views.diagram.table_links import drawn_tables
from tessaron.views.diagram.text_drawing import diagram_lines
from tessaron.views.load_view import load_view
from tessaron.views.repeating.comparison_view import comparison_view
from tessaron.views.repeating.history_view import history_view
from tessaron.views.survey_outline import outline_lines
from tessaron.views.terminal import count, notes_view, receipt_view, show
from tessaron.views.verification_view import verification_view

if TYPE_CHECKING:
    from tessaron.decide.layout_file import Layout
    from tessaron.prove.verifying import Verification
    from tessaron.repeat.comparing import Comparison
    from tessaron.repeat.run_history import History
    from tessaron.views.survey_view import Survey
    from tessaron.write.books.receipt import Receipt
    from tessaron.write.loading import Loaded
    from tessaron.write.made_tables import Tables

_WIDTH, _RUNS = 160, 20


def _text_of(*parts: Table | str) -> str:
    stream = io.StringIO()
    show(Console(file=stream, width=_WIDTH, highlight=False, no_color=True), *parts)
    return stream.getvalue().rstrip("\n")


def survey_text(survey: Survey) -> str:
    """Return the outline and the notes."""
    return "\n".join(outline_lines(survey.facts))


def layout_text(layout: Layout) -> str:
    """Return the layout file."""
    return layout.text


def tables_text(tables: Tables) -> str:
    """Return the tables as a tree, with their rows."""
    rows = {name: table.num_rows for name, table in tables.items()}
    return "\n".join(diagram_lines(drawn_tables(tables.layout.tables, (), rows)))


def receipt_text(receipt: Receipt) -> str:
    """Return the tables written, the totals, and what to know of the run."""
    return _text_of(*receipt_view(receipt), *notes_view(receipt))


def loaded_text(loaded: Loaded) -> str:
    """Return the tables loaded, the totals, and what to know of the run."""
    return _text_of(*load_view(loaded), *notes_view(loaded.receipt))


def verification_text(found: Verification) -> str:
    """Return the checks, the differences, and the verdict."""
    return _text_of(*verification_view(found))


def comparison_text(found: Comparison) -> str:
    """Return the changes, those that break most first."""
    return _text_of(*comparison_view(found))


def history_text(history: History) -> str:
    """Return the last runs."""
    return _text_of(count(len(history.runs), "run"), *history_view(history, _RUNS))
