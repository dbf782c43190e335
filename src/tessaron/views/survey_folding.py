"""Which paths of a survey are shown where there are too many for two screens, and what stands for others."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from tessaron.core.survey.survey_entries import PathEntry

MOST_LINES = 50
"""So many lines has an outline that is folded."""
_FEW_SIBLINGS, _SHARE_OF_ROOM = 8, 3
"""Of siblings that take more than half of the room so many are shown, or one part in so many of it."""
_MOST_NAMED = 6


@dataclass(frozen=True, slots=True)
class OutlineLine:
    """A line of the outline: a path, or what stands for some that are not shown.

    Attributes:
        entry: The path; None for a line that stands for others.
        depth: How deep it stands.
        text: What is said instead of values: what stands below it, or which names are left out.
        count: How many siblings a line without a path stands for.
    """

    entry: PathEntry | None
    depth: int
    text: str = ""
    count: int = 0


def unfolded(entries: Sequence[PathEntry]) -> list[OutlineLine]:
    """Return a line for every path."""
    return [OutlineLine(entry, entry.depth) for entry in entries]


def folded(
    entries: Sequence[PathEntry], like: Mapping[str, str], most: int = MOST_LINES
) -> list[OutlineLine]:
    """Return about as many lines as there is room for: what stands further out, of siblings the fuller ones.

    Args:
        entries: The paths, each before those below it.
        like: Paths of objects that have the structure of another, which is shown, with the path of that.
        most: So many lines.
    """
    return _Folding(entries, like, most).lines()


class _Folding:
    def __init__(self, entries: Sequence[PathEntry], like: Mapping[str, str], most: int):
        self._entries, self._like = entries, like
        self._room = most
        self._children, self._sizes = _tree(entries)
        self._shown: dict[int, list[int]] = {}

    def lines(self) -> list[OutlineLine]:
        """Choose and return the lines."""
        pending = [-1]
        while pending and self._room > 0:
            # All of one depth before any of the next.
            below: list[int] = []
            for index in pending:
                if index < 0 or self._entries[index].path not in self._like:
                    below += self._choose(index)
            pending = below
        return self._written()

    def _choose(self, index: int) -> list[int]:
        children = self._children.get(index, [])
        chosen = children
        if len(children) > max(_FEW_SIBLINGS, self._room // 2):
            count = max(_FEW_SIBLINGS, self._room // _SHARE_OF_ROOM)
            if count > self._room:
                return []
            fullest = sorted(children, key=lambda child: (-self._entries[child].fill_rate, child))
            chosen = sorted(fullest[:count])
        self._shown[index] = chosen
        self._room -= len(chosen) + (len(chosen) < len(children))
        return chosen

    def _written(self) -> list[OutlineLine]:
        made: list[OutlineLine] = []
        pending: list[int | OutlineLine] = list(reversed(self._shown.get(-1, [])))
        while pending:
            at = pending.pop()
            if isinstance(at, OutlineLine):
                made.append(at)
                continue
            entry = self._entries[at]
            made.append(OutlineLine(entry, entry.depth, self._said_below(at)))
            shown = self._shown.get(at, [])
            chosen = set(shown)
            left = [child for child in self._children.get(at, []) if child not in chosen]
            if shown and left:
                pending.append(self._line_for(left))
            pending += reversed(shown)
        return made

    def _said_below(self, index: int) -> str:
        entry = self._entries[index]
        if entry.path in self._like:
            return f"like {self._like[entry.path]}"
        if index in self._shown or not self._sizes[index]:
            return ""
        return f"… {self._sizes[index]:,} paths below"

    def _line_for(self, left: list[int]) -> OutlineLine:
        names = [self._entries[child].name for child in left[:_MOST_NAMED]]
        text = ", ".join(names) + (", …" if len(left) > _MOST_NAMED else "")
        return OutlineLine(None, self._entries[left[0]].depth, text, len(left))


def _tree(entries: Sequence[PathEntry]) -> tuple[dict[int, list[int]], list[int]]:
    """Return for each path those right below it (for -1 the outermost), and how many are below it in all."""
    children: dict[int, list[int]] = {}
    sizes = [0] * len(entries)
    stack: list[int] = []
    for index, entry in enumerate(entries):
        while stack and entries[stack[-1]].depth >= entry.depth:
            stack.pop()
        children.setdefault(stack[-1] if stack else -1, []).append(index)
        for above in stack:
            sizes[above] += 1
        stack.append(index)
    return children, sizes
