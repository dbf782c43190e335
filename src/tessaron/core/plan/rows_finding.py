"""Where the rows of each table of a layout stand."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field

from tessaron.core.base.paths import ELEMENT, ENTRY, Each, Path, level_of
from tessaron.core.base.visible import in_quotes
from tessaron.core.expressions.expression_faults import nearest
from tessaron.core.layout.layout_model import TablePart
from tessaron.core.layout.layout_paths import JsonLayoutPaths, LayoutPath, LayoutPathError, LayoutPaths
from tessaron.core.layout.toml_lines import Keys
from tessaron.core.plan.plan import Rearrangement

Say = Callable[[Keys, str], None]


@dataclass(frozen=True, slots=True)
class RowsPlace:
    """The rows of one table.

    Attributes:
        level: Their path.
        is_around: Whether they are of what stands around the records.
        change: How they are brought together, if they are not a level of the documents.
        is_broken: Whether a mistake was found, so that nothing is known but that there are rows.
    """

    level: Path
    is_around: bool = False
    change: Rearrangement | None = None
    is_broken: bool = False


@dataclass
class RowsFinder:
    """Finds the rows of the tables, each once; mistakes are said. `paths` reads the paths."""

    tables: Mapping[str, TablePart]
    say: Say
    paths: LayoutPaths = field(default_factory=JsonLayoutPaths)
    objects: set[Path] = field(default_factory=set)
    """Paths of objects that are rows."""
    _places: dict[str, RowsPlace] = field(default_factory=dict)
    _finding: list[str] = field(default_factory=list)
    _indexes: dict[tuple[int, bool], tuple[list[str], dict[Path, str]]] = field(default_factory=dict)

    def place(self, name: str) -> RowsPlace:
        """Return where the rows of a table stand; a broken place after a mistake."""
        if name not in self._places:
            if name in self._finding:
                self.say(
                    ("tables", name, "parent"), f"{' → '.join([*self._finding, name])}: a table below itself"
                )
                return _broken(name)
            self._finding.append(name)
            self._places[name] = self._find(name, self.tables[name]) or _broken(name)
            self._finding.pop()
        return self._places[name]

    def find_shared(self) -> None:
        """Find the rows of tables around those of shared ones, which may stand before them in the layout."""
        spelled = {name: part.rows for name, part in self.tables.items() if isinstance(part.rows, str)}
        if any(part.shared is not None for part in self.tables.values()):
            for name in sorted(spelled, key=lambda name: len(spelled[name])):
                self.place(name)

    def level(self, name: str) -> Path:
        """Return the level of a table's rows."""
        return self.place(name).level

    def text(self, name: str) -> str:
        """Return how the layout spells where a table's rows stand."""
        part = self.tables[name]
        rows = part.rows if part.rows is not None else part.parallel or "$"
        return rows if isinstance(rows, str) else ", ".join(rows)

    def changes(self, name: str) -> list[Rearrangement]:
        """Return what brings a table's rows together."""
        place = self.place(name)
        return [place.change] if place.change is not None else []

    def parent(self, name: str, names: list[str]) -> str | None:
        """Return the table that a table's rows belong to, written or not."""
        return self._parent(name, names, written=False)

    def written_parent(self, name: str, names: list[str]) -> str | None:
        """Return the nearest written table that a table's rows belong to."""
        return self._parent(name, names, written=True)

    def _parent(self, name: str, names: list[str], written: bool) -> str | None:
        given = self.tables[name].parent
        if given in names and (not written or self.tables[given].write):
            return given
        mine = self.level(name)
        by_level = self._by_level(names, written)
        first = by_level.get(mine)
        if first is not None and first != name and names.index(first) < names.index(name):
            return first
        return next(
            (by_level[mine[:count]] for count in range(len(mine) - 1, -1, -1) if mine[:count] in by_level),
            None,
        )

    def _by_level(self, names: list[str], written: bool) -> dict[Path, str]:
        """Return for each level the first of the tables that others can belong to."""
        known = self._indexes.get((id(names), written))
        if known is None or known[0] is not names:
            found: dict[Path, str] = {}
            for name in names:
                part = self.tables[name]
                if not ((written and not part.write) or part.multiply or part.with_empty or part.once):
                    found.setdefault(self.level(name), name)
            known = self._indexes[id(names), written] = (names, found)
        return known[1]

    def _find(self, name: str, part: TablePart) -> RowsPlace | None:
        keys = ("tables", name)
        if part.parallel is not None:
            if part.rows is not None:
                self.say((*keys, "parallel"), "expected rows or parallel, got both")
                return None
            return self._made("parallel", name, part.parallel, (*keys, "parallel"))
        if isinstance(part.rows, list):
            return self._made("union", name, part.rows, (*keys, "rows"))
        if part.rows is None:
            self.say(keys, "expected rows, where its rows stand, such as '$' or '$.stays[*]'")
            return None
        path = self._parsed(part.rows, (*keys, "rows"), part.parent)
        if path is None:
            return None
        return RowsPlace(self._as_level(path.steps), part.around)

    def _as_level(self, steps: Path) -> Path:
        if not steps or isinstance(steps[-1], Each):
            return self.through_objects(LayoutPath(steps)).steps
        steps = self.through_objects(LayoutPath(steps)).steps
        if steps[-1] is ELEMENT:
            return steps
        self.objects.add(steps)
        return (*steps, ELEMENT)

    def _parsed(self, text: str, keys: Keys, parent: str | None) -> LayoutPath | None:
        try:
            path = self.paths.rows(text, keys[1])
        except LayoutPathError as error:
            self.say(keys, str(error))
            return None
        if path.picks:
            self.say(
                keys,
                f"{in_quotes(text)}: a position names one element, rows are all of them; write "
                f"[*] and use keep",
            )
            return None
        if not path.from_row:
            return path
        if parent is None or parent not in self.tables:
            self.say(
                keys,
                f"{in_quotes(text)} begins at a row of the parent; say which: "
                f"{nearest(parent or '', self.tables)}",
            )
            return None
        above = self.place(parent)
        return path.below(above.level)

    def _made(self, kind: str, name: str, texts: list[str], keys: Keys) -> RowsPlace | None:
        """Return the place of rows that are brought together from several paths."""
        found = [
            self._parsed(text, (*keys, str(number)), self.tables[name].parent)
            for number, text in enumerate(texts, 1)
        ]
        paths = [path.steps for path in found if path is not None]
        if len(paths) < len(texts) or not paths:
            if not texts:
                self.say(keys, "expected at least one path")
            return None
        if kind == "union":
            paths = [path if path and isinstance(path[-1], Each) else (*path, ELEMENT) for path in paths]
        elif any(not path or path[-1] is not ELEMENT for path in paths):
            self.say(keys, "expected paths of arrays, ending with [*]")
            return None
        outer = {level_of(path[:-1]) for path in paths}
        if len(outer) > 1 or any(path[-1] is ENTRY for path in paths):
            self.say(keys, "expected arrays or objects of one and the same row")
            return None
        level = (*outer.pop(), f"\0{name}", ELEMENT)
        change = Rearrangement(kind, level, tuple(paths), ", ".join(texts))
        return RowsPlace(level, self.tables[name].around, change)

    def through_objects(self, path: LayoutPath) -> LayoutPath:
        """Return a path that goes through objects which are rows, to the one row each of them is."""
        steps, picks = path.steps, list(path.picks)
        # From the outermost in: those inside of others are known with the step to each of these.
        count = 1
        while count <= len(steps):
            if steps[:count] in self.objects and (count == len(steps) or steps[count] is not ELEMENT):
                steps = (*steps[:count], ELEMENT, *steps[count:])
                picks = [(at + 1 if at > count else at, index) for at, index in picks]
                picks.append((count + 1, 0))
            count += 1
        return LayoutPath(steps, tuple(picks))


def _broken(name: str) -> RowsPlace:
    return RowsPlace((f"\0{name}", ELEMENT), is_broken=True)
