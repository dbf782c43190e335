"""The notes of a survey, grouped by what they say, what hurts most in a warehouse first."""

from __future__ import annotations

import textwrap
from collections.abc import Iterator, Sequence

from tessaron.core.base.visible import visible
from tessaron.core.survey.noticing import SurveyNote
from tessaron.views.palette import PLAIN, Palette

_FIRST = (
    "rejected", "nothing there", "duplicate names", "mixed kinds", "value or object", "value or array",
    "almost unique", "unique where filled", "not all alike", "number", "grouped number", "date",
    "ambiguous date", "JSON", "placeholder", "spellings", "surrounding spaces", "long integers", "very long",
    "mixed content", "one or many", "tree", "contains itself", "card number", "e-mail address",
    "phone number", "unique", "follows", "never filled", "dictionary", "constant",
)  # fmt: skip
"""The sorts of notes; those that are not among them come first."""
_GOOD = frozenset(("unique", "follows", "dictionary", "constant", "tree", "contains itself", "one or many"))
"""The sorts that are no trouble."""
_MOST_GROUPS, _MOST_EXAMPLES = 6, 3
_MOST_NOTES = 20
"""Of so many notes every sort is shown."""


def note_lines(
    notes: Sequence[SurveyNote], width: int, is_brief: bool, palette: Palette = PLAIN
) -> Iterator[str]:
    """Yield the notes by their sort, with what to do about each.

    Args:
        notes: The notes.
        width: Cells of a line.
        is_brief: Whether only the first sorts are shown, each with its most telling examples.
        palette: Colours for what is trouble.
    """
    if not notes:
        yield "Notes: none."
        return
    yield f"Notes ({len(notes):,})"
    groups: dict[str, list[SurveyNote]] = {}
    for note in notes:
        groups.setdefault(note.code, []).append(note)
    order = {code: place for place, code in enumerate(_FIRST)}
    codes = sorted(groups, key=lambda code: order.get(code, -1))
    shown = codes[:_MOST_GROUPS] if is_brief and len(notes) > _MOST_NOTES else codes
    for code in shown:
        yield from _group_lines(code, groups[code], width, is_brief, palette)
    left = [f"{code} {len(groups[code]):,}" for code in codes[len(shown) :]]
    if left:
        yield from _wrapped(f"also: {', '.join(left)}; --notes all shows every one", width, "  ", "    ")


def _group_lines(
    code: str, notes: list[SurveyNote], width: int, is_brief: bool, palette: Palette
) -> Iterator[str]:
    telling = sorted(notes, key=lambda note: -note.count) if is_brief else notes
    shown = telling[:_MOST_EXAMPLES] if is_brief else notes
    count = f"{len(notes):,} path{'s' * (len(notes) != 1)}"
    first, *others = _wrapped(f"{code}, {count}: {notes[0].advice or 'see below'}", width, "  ", "    ")
    yield first if code in _GOOD else first.replace(code, palette.paint("warning", code), 1)
    yield from others
    for note in shown:
        text = note.text.removeprefix(f"{code}: ").removeprefix(f"{code}; ")
        yield from _wrapped(f"{note.path}: {text}", width, "    ", "      ")
        if note.example is not None and (len(notes) == 1 or not is_brief):
            yield from _wrapped(f"e.g. {note.example}", width, "        ", "             ")
    if len(shown) < len(notes):
        yield f"    … {len(notes) - len(shown):,} more"


def _wrapped(text: str, width: int, first: str, rest: str) -> list[str]:
    return textwrap.wrap(
        visible(text),
        max(width, 40),
        initial_indent=first,
        subsequent_indent=rest,
        break_long_words=False,
        break_on_hyphens=False,
    )
