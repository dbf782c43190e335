"""Why the tables of a draft are tables, as lines of text."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from textwrap import wrap

from tessaron.core.base.visible import visible
from tessaron.core.layout.table_reasons import TableReason

_INDENT = "  "
_WIDEST = 110


def reasons_view(reasons: Mapping[str, TableReason], width: int) -> Iterator[str]:
    """Yield for each table its name, why it is one, and what would make it none.

    Args:
        reasons: By the name of the table.
        width: Cells of the terminal; 0 for no limit.
    """
    room = max(40, width or _WIDEST)
    for name, reason in reasons.items():
        yield visible(name)
        for text in filter(None, (reason.text, reason.otherwise)):
            yield from wrap(
                visible(text),
                room,
                initial_indent=_INDENT,
                subsequent_indent=2 * _INDENT,
                break_on_hyphens=False,
            )
