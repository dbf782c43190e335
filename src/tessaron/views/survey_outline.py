"""The outline of a survey: one line per path, indented as the data is nested, and the notes under it."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from fnmatch import fnmatchcase
from typing import Literal

from tessaron.core.base.visible import visible
from tessaron.core.survey.noticing import SurveyNote
from tessaron.core.survey.survey_entries import LikePlaces, PathEntry, SurveyFacts
from tessaron.views.grid import pad, shorten, text_width
from tessaron.views.palette import PLAIN, Palette
from tessaron.views.survey_folding import OutlineLine, folded, unfolded
from tessaron.views.survey_notes import note_lines

_BAR = 5
_TYPE = 3
"""Which column has the type."""
_EIGHTHS = " ▏▎▍▌▋▊▉█"
_LEAST_VALUES, _SHORTEST_VALUES = 24, 10
_LONGEST_NAME, _SHORT_NAME, _LONGEST_VALUE = 34, 22, 28
_FEW_VALUES, _FREQUENT_SHARE = 8, 0.1
_MOST_STRUCTURES = 6
MOST_ENTRIES = 80
"""More paths than this are folded, unless all are asked for."""
_WIDE = 160
"""The width where the terminal does not tell."""


@dataclass(frozen=True, slots=True)
class ShownPaths:
    """What of a survey is shown.

    Attributes:
        match: Only paths with this in them (`*` and `?` stand for anything), with their ancestors.
        depth: Only paths so deep below the record; None for all.
        sort: `data` for the order of the data, else by `name`, `fill`, or `distinct` among siblings.
        is_whole: Whether every path is shown, be there ever so many.
        all_notes: Whether every note is.
    """

    match: str | None = None
    depth: int | None = None
    sort: Literal["data", "name", "fill", "distinct"] = "data"
    is_whole: bool = False
    all_notes: bool = False

    @property
    def chooses(self) -> bool:
        """Whether paths are chosen, which are all shown then."""
        return self.match is not None or self.depth is not None


def select(facts: SurveyFacts, selection: ShownPaths) -> tuple[list[PathEntry], list[SurveyNote]]:
    """Return the paths and notes that are to be shown."""
    entries = list(facts.entries)
    if selection.match is not None:
        entries = _matching(entries, selection.match)
    if selection.depth is not None:
        entries = [entry for entry in entries if entry.depth <= selection.depth]
    shown = {entry.path for entry in entries}
    if selection.sort != "data":
        entries = _sorted(entries, selection.sort)
    if not selection.chooses:
        return entries, list(facts.notes)
    return entries, [note for note in facts.notes if note.path in shown]


def _matching(entries: list[PathEntry], pattern: str) -> list[PathEntry]:
    wild = pattern if any(letter in pattern for letter in "*?") else f"*{pattern}*"
    plain = wild.replace("[*]", "[[]*]").lower()
    ancestors: list[PathEntry] = []
    kept: dict[str, PathEntry] = {}
    for entry in entries:
        del ancestors[entry.depth :]
        ancestors.append(entry)
        if fnmatchcase(entry.path.lower(), plain):
            kept.update((above.path, above) for above in ancestors)
    return [entry for entry in entries if entry.path in kept]


def _sorted(entries: list[PathEntry], by: str) -> list[PathEntry]:
    """Return the paths with siblings in order, each followed by what is below it."""
    keys = {
        "name": lambda entry: entry.name.lower(),
        "fill": lambda entry: entry.fill_rate,
        "distinct": lambda entry: -(entry.distinct or 0),
    }
    key = keys[by]
    children: dict[int, list[int]] = {}
    stack: list[int] = []
    for index, entry in enumerate(entries):
        while stack and entries[stack[-1]].depth >= entry.depth:
            stack.pop()
        children.setdefault(stack[-1] if stack else -1, []).append(index)
        stack.append(index)
    made: list[PathEntry] = []
    pending = sorted(children.get(-1, []), key=lambda index: key(entries[index]), reverse=True)  # type: ignore[no-untyped-call]
    while pending:
        index = pending.pop()
        made.append(entries[index])
        below = sorted(children.get(index, []), key=lambda child: key(entries[child]), reverse=True)  # type: ignore[no-untyped-call]
        pending.extend(below)
    return made


def outline_lines(
    facts: SurveyFacts, selection: ShownPaths | None = None, width: int = 0, palette: Palette = PLAIN
) -> Iterator[str]:
    """Yield the outline of a survey, as wide as `width` cells (0 for no limit)."""
    selection = selection or ShownPaths()
    entries, notes = select(facts, selection)
    width = width or _WIDE
    is_folded = len(entries) > MOST_ENTRIES and not (selection.chooses or selection.is_whole)
    lines = folded(entries, _like(facts)) if is_folded else unfolded(entries)
    yield visible(_title(facts))
    yield ""
    yield from _table(lines, width, facts.taken, palette)
    if is_folded:
        shown = sum(line.entry is not None for line in lines)
        yield ""
        choice = "--match PATTERN or --depth N for others, --all for every one"
        yield f"{shown:,} of {len(entries):,} paths; {choice}"
        yield from _structure_lines(facts.structures, width)
    yield ""
    yield from note_lines(notes, width, not (selection.all_notes or selection.chooses), palette)


def _like(facts: SurveyFacts) -> dict[str, str]:
    """Return for all places of a structure but the first that is shown that one."""
    order = {entry.path: place for place, entry in enumerate(facts.entries)}
    found: dict[str, str] = {}
    for each in facts.structures:
        first, *others = sorted(each.paths, key=lambda path: order.get(path, len(order)))
        found |= dict.fromkeys(others, first)
    return found


def _structure_lines(structures: Sequence[LikePlaces], width: int) -> Iterator[str]:
    if structures:
        yield ""
        yield f"Structures in several places ({len(structures):,})"
    for each in structures[:_MOST_STRUCTURES]:
        places = ", ".join(each.paths[:_FEW_VALUES])
        text = f"{each.name}, {each.fields} fields, in {len(each.paths):,} places: {places}"
        yield visible("  " + shorten(text, width - 2))


def _title(facts: SurveyFacts) -> str:
    names = ", ".join(facts.sources[:3]) + (
        f" and {len(facts.sources) - 3:,} more" if len(facts.sources) > 3 else ""
    )
    where = "" if facts.records_path == "$" else f" at {facts.records_path}"
    what = f"{facts.records:,} record{'s' * (facts.records != 1)}{where} in {names}"
    return f"{what} (a sample: there are more records, which were not read)" if facts.is_partial else what


def _table(
    lines: Sequence[OutlineLine],
    width: int,
    taken: Mapping[str, tuple[str, ...]] | None,
    palette: Palette,
) -> Iterator[str]:
    """Yield the outline, one line per path; where it is narrow without bars, and with names cut."""
    heads: tuple[str, ...] = ("path", "rows", "filled", "type", "distinct")
    right: tuple[bool, ...] = (False, True, False, False, True)
    if taken is not None:
        heads, right = (*heads, "goes to"), (*right, False)
    for with_bar, longest_name in ((True, _LONGEST_NAME), (False, _LONGEST_NAME), (False, _SHORT_NAME)):
        rows = [tuple(map(visible, _row(line, with_bar, longest_name, taken))) for line in lines]
        widths = [
            max([text_width(head), *(text_width(row[i]) for row in rows)]) for i, head in enumerate(heads)
        ]
        room = width - sum(widths) - 2 * len(widths)
        if room >= _LEAST_VALUES:
            break
    room = max(room, _SHORTEST_VALUES)
    yield "  ".join([*(pad(h, w, r) for h, w, r in zip(heads, widths, right, strict=True)), "values"])
    yield "  ".join("─" * size for size in [*widths, min(room, 40)])
    for row, line in zip(rows, lines, strict=True):
        cells = [pad(cell, size, r) for cell, size, r in zip(row, widths, right, strict=True)]
        cells[_TYPE] = palette.paint("null" if row[_TYPE] == "null" else "type", cells[_TYPE])
        values = (
            shorten(line.text, room) if line.text or line.entry is None else values_cell(line.entry, room)
        )
        yield "  ".join([*cells, visible(values)]).rstrip()


def _row(
    line: OutlineLine, with_bar: bool, longest_name: int, taken: Mapping[str, tuple[str, ...]] | None
) -> tuple[str, ...]:
    if line.entry is None:
        name = shorten("  " * min(line.depth, 12) + f"… {line.count:,} more", longest_name)
        return (name, *[""] * (4 if taken is None else 5))
    cells = _cells(line.entry, with_bar, longest_name)
    return cells if taken is None else (*cells, _goes_to(line.entry, taken, longest_name))


def _cells(entry: PathEntry, with_bar: bool, longest_name: int) -> tuple[str, str, str, str, str]:
    name = shorten("  " * min(entry.depth, 12) + entry.name, longest_name)
    rows = f"{entry.rows:,}" if entry.opens_level else ""
    if entry.opens_level and entry.filled == entry.rows:
        return name, rows, "", type_cell(entry), distinct_cell(entry)
    filled = f"{percent(entry.fill_rate):>6}" + (f" {_bar(entry.fill_rate)}" if with_bar else "")
    return name, rows, filled, type_cell(entry), distinct_cell(entry)


def _goes_to(entry: PathEntry, taken: Mapping[str, tuple[str, ...]], longest: int) -> str:
    """Return the columns that take a path; a dash for values that are left out."""
    columns = taken.get(entry.path, ())
    return shorten(", ".join(columns), longest) if columns else "–" * bool(entry.type)


def percent(share: float) -> str:
    """Return a share in words: not 100% unless it is all, not 0% unless it is none."""
    if 0.9995 <= share < 1:
        return "<100%"
    if 0 < share < 0.0005:
        return ">0%"
    return f"{share:.1%}" if share < 1 else "100%"


def _bar(share: float) -> str:
    eighths = round(share * _BAR * 8)
    full, rest = divmod(eighths, 8)
    return ("█" * full + (_EIGHTHS[rest] if rest else "")).ljust(_BAR, "·")


def type_cell(entry: PathEntry) -> str:
    """Return the type, and whether objects or arrays stand there too."""
    containers = [kind for kind in ("object", "array") if kind in entry.kinds]
    parts = ([entry.type] if entry.type else []) + containers
    return " | ".join(parts) or "null"


def distinct_cell(entry: PathEntry) -> str:
    """Return how many different values there are, with a mark if it is an estimate."""
    if entry.distinct is None:
        return ""
    return f"{entry.distinct:,}" if entry.is_exact else f"~{entry.distinct:,}"


def kinds_cell(entry: PathEntry) -> str:
    """Return the kinds with their shares, where there are several."""
    kinds = {kind: count for kind, count in entry.kinds.items() if kind != "null"}
    total = sum(kinds.values())
    if len(kinds) < 2:
        return ""
    return ", ".join(f"{kind} {percent(count / total)}" for kind, count in kinds.items())


def values_cell(entry: PathEntry, room: int) -> str:
    """Return the kinds if mixed, how long arrays are, and the most frequent values or the range."""
    kinds = kinds_cell(entry)
    return shorten("; ".join([kinds] * bool(kinds) + _value_parts(entry)), room)


def values_alone(entry: PathEntry, room: int) -> str:
    """Return how long arrays are, and the most frequent values or the range."""
    return shorten("; ".join(_value_parts(entry)), room)


def _value_parts(entry: PathEntry) -> list[str]:
    parts = []
    if entry.elements is not None:
        least, mean, most = entry.elements
        parts.append(f"{least:,} to {most:,} elements, mean {mean:.1f}")
    scalars = sum(count for kind, count in entry.kinds.items() if kind not in ("null", "object", "array"))
    if entry.frequent and (entry.least is None or _is_telling(entry, scalars)):
        parts.append(
            ", ".join(
                f"{shorten(value, _LONGEST_VALUE)} {percent(count / scalars)}"
                for value, count in entry.frequent
            )
        )
    elif entry.least is not None and entry.most is not None:
        ends = [shorten(text, _LONGEST_VALUE) for text in (entry.least, entry.most)]
        parts.append(ends[0] if ends[0] == ends[1] else f"{ends[0]} … {ends[1]}")
    return parts


def _is_telling(entry: PathEntry, scalars: int) -> bool:
    """Say whether the most frequent values tell more than the ends of the range."""
    top = entry.frequent[0][1]
    return top > 1 and ((entry.distinct or 0) <= _FEW_VALUES or top >= _FREQUENT_SHARE * scalars)
