"""A layout that one person is choosing: the choices, what they make of the first records, and the file."""

from __future__ import annotations

from collections.abc import Mapping
from difflib import SequenceMatcher
from pathlib import Path
from typing import Any

from tessaron.choosing.layout_choices import Choice, LayoutChoices
from tessaron.core.base.errors import UsageError
from tessaron.decide.layout_file import Layout
from tessaron.look.charting import Chart
from tessaron.look.layout_view import LayoutView
from tessaron.views.page.command_pages import page_of_chart, tables_of_layout
from tessaron.views.page.page_writing import page_text
from tessaron.views.page.structure_part import ShownTables, columns_at, path_numbers, tables_alone

_PROBLEMS_SHOWN = 12
_TYPES = (
    "text", "integer", "decimal(9,2)", "double", "boolean", "date", "time", "timestamp", "timestamp_tz",
    "uuid", "json",
)  # fmt: skip
_FOLDS = (
    "joined", "first", "last", "count", "count_distinct", "sum", "mean", "least", "most", "any", "all",
    "json",
)  # fmt: skip


class LiveDraft:
    """What a page of choices shows and does.

    Args:
        chart: What was seen of the source.
        layout: The layout to begin with; else the one that is proposed.
        file: Where it is saved.
        typed: The source as it was typed.

    Raises:
        UsageError: When there are no records to choose from.
    """

    def __init__(self, chart: Chart, layout: Layout | None, file: str, typed: str):
        if chart.layout is None or chart.sample is None:
            raise UsageError("there are no records to draft a layout from")
        self._chart, self._sample, self._typed = chart, chart.sample, typed
        self._draft = chart.layout
        self.choices = LayoutChoices(layout or chart.layout, chart.layout)
        self.file = file
        self._saved = "" if layout is None else layout.text
        self._numbers = path_numbers(chart.facts)

    @property
    def is_saved(self) -> bool:
        """Whether the file holds what was chosen."""
        return self._saved == self.choices.layout.text

    def page(self) -> str:
        """Return the text of the page."""
        page = page_of_chart(self._chart, "draft", self._typed, self.file)
        return page_text(page, {"draft": self._drafted(), "types": _TYPES, "folds": _FOLDS, **self.state()})

    def state(self, before: str | None = None) -> dict[str, Any]:
        """Return what a page shows of the layout now.

        Args:
            before: The text of the layout before the last choice: lines that differ are marked.
        """
        layout = self.choices.layout
        seen = self._sample.seen_by(layout)
        plain = tables_of_layout(layout)
        tables = ShownTables(plain.tables, plain.part, {}, seen.counts, seen.rows)
        structure = tables_alone(tables, LayoutView(layout).taken(), self._numbers)
        left = sum(seen.left_out.values())
        return {
            "tables": structure.data["tables"],
            "folded": structure.data["folded"],
            "diagram": structure.diagram,
            "text": layout.text,
            "changed": [] if before is None else _changed_lines(before, layout.text),
            "steps": self.choices.steps,
            "saved": self.is_saved,
            "file": self.file,
            "filters": {name: part.keep for name, part in layout.part.tables.items() if part.keep},
            "keys": {name: ", ".join(part.key) for name, part in layout.part.tables.items() if part.key},
            "problems": [
                f"{text} ({count:,} times)" for text, count in seen.problems.most_common(_PROBLEMS_SHOWN)
            ],
            "left": left,
        }

    def choose(self, choice: Choice) -> dict[str, Any]:
        """Make a choice and return what a page shows then.

        Raises:
            UsageError: When it cannot be made.
            LayoutError: When the layout would not be right; nothing has changed then.
        """
        before = self.choices.layout.text
        match choice.get("do"):
            case "take back":
                self.choices.take_back()
            case "make again":
                self.choices.make_again()
            case "save":
                self.save()
            case _:
                self.choices.make(choice)
        return self.state(before)

    def save(self) -> None:
        """Write the layout into its file.

        Raises:
            TargetError: When that cannot be done.
        """
        self.choices.layout.write(Path(self.file))
        self._saved = self.choices.layout.text

    def _drafted(self) -> Mapping[str, Any]:
        """Return where the draft has each path: what can be taken in again."""
        columns: dict[int, list[list[str]]] = {}
        for name, number in columns_at(self._chart.taken, self._numbers).items():
            for table in self._draft.tables:
                if (
                    name.startswith(f"{table}.")
                    and name[len(table) + 1 :] in self._draft.part.tables[table].columns
                ):
                    columns.setdefault(number, []).append([table, name[len(table) + 1 :]])
        rows = {
            name: part.rows for name, part in self._draft.part.tables.items() if isinstance(part.rows, str)
        }
        return {"columns": columns, "rows": rows}


def _changed_lines(before: str, now: str) -> list[int]:
    """Return the numbers of lines that are new or changed, from 0."""
    old, new = before.splitlines(), now.splitlines()
    blocks = SequenceMatcher(None, old, new, autojunk=False).get_opcodes() if len(new) < 4_000 else []
    return [line for tag, _, _, start, end in blocks if tag != "equal" for line in range(start, end)]
