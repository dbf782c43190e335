"""A source seen through a layout: read as it says, with its changes of structure, but nothing taken away."""

from __future__ import annotations

from dataclasses import dataclass, replace

from tessaron.core.base.paths import ELEMENT, Origin, Path, Step, format_path
from tessaron.core.kernel.chunk_reading import ReadTask, read_tape, repeated_offsets
from tessaron.core.layout.layout_paths import path_of_text
from tessaron.core.layout.table_set import written_column
from tessaron.core.plan.plan import Rearrangement, TablePlan
from tessaron.core.rearrange.rearranging import Rearranging
from tessaron.core.rearrange.restructure import rearrange
from tessaron.core.shape.shape import Shape
from tessaron.core.tape.branches import fragment_of, tree_of
from tessaron.core.tape.emission import emit
from tessaron.core.tape.tape import Tape
from tessaron.decide.layout_file import Layout
from tessaron.engine.feeds import ReadResult
from tessaron.engine.options import Options


@dataclass(frozen=True)
class RearrangedShapeWork:
    """Parses, changes the structure as a layout says, and learns the shape."""

    changes: tuple[Rearrangement, ...]

    def __call__(self, task: ReadTask) -> ReadResult:
        """Return the fragment of a chunk and its shape."""
        tape, is_cut = read_tape(task)
        result = self.of(tape)
        result.is_cut = is_cut
        return result

    def of(self, tape: Tape) -> ReadResult:
        """Return a changed fragment, put aside, and its shape."""
        fragment = emit(tape)
        passed = fragment.passed_by_path()
        work = Rearranging(tree_of(fragment))
        for change in self.changes:
            rearrange(work, change)
        fragment = fragment_of(work.tree, fragment)
        shape = Shape()
        fragment = shape.add(fragment.without_passed() if passed else fragment, fragment.places)
        return ReadResult(
            fragment, tape.record_count, tape.faults, tape.repeated, repeated_offsets(tape), shape,
            passed=passed, run_counts=tape.run_counts,
        )  # fmt: skip


class LayoutView:
    """What a survey wants to know of a layout."""

    def __init__(self, layout: Layout):
        self._layout = layout
        compiled = layout.compiled(secret=b"any")
        self._plan, self._paths = compiled.records, compiled.paths

    def options(self, options: Options) -> Options:
        """Return the options with what the layout says of reading."""
        reading, structure = self._layout.part.reading, self._layout.part.structure
        return replace(
            options,
            records=reading.records,
            as_documents=reading.records is None,
            envelope=reading.envelope,
            duplicate_keys=reading.duplicate_keys,
            format=reading.format,
            white_space=reading.white_space,
            namespaces=reading.namespaces,
            xsd=reading.xsd,
            dictionaries=tuple(structure.dictionaries),
            not_dictionaries=tuple(structure.not_dictionaries),
        )

    def work(self) -> RearrangedShapeWork | None:
        """Return what is to be done with chunks; rows that tables bring together stay where they are.

        None where the layout changes nothing of the structure: then the source is read as any other.
        """
        changes = [each for each in self._plan.rearrangements if each.kind not in ("union", "parallel")]
        return RearrangedShapeWork(tuple(changes)) if changes else None

    def taken(self) -> dict[str, tuple[str, ...]]:
        """Return for each path the columns that take its values."""
        found: dict[str, tuple[str, ...]] = {}
        for table in self._plan.tables:
            for column in table.columns:
                if column.source is None:
                    continue
                path = self._as_met(table, column.source.path)
                is_whole = path[-1:] == (Origin.JSON,)
                shown = format_path(path[:-1] if is_whole else path)
                found[shown] = (*found.get(shown, ()), written_column(f"{table.name}.{column.name}"))
        return found

    def _as_met(self, table: TablePlan, path: Path) -> Path:
        """Return where values stand in the documents, in which objects that are rows are no arrays."""
        place = table.table.place if table.table is not None else ""
        spelled = path_of_text(place or self._paths.get(table.name, ""))
        if spelled is None or table.once or path[: len(table.level)] != table.level:
            return path
        return (*_met_of(table.level, spelled), *path[len(table.level) :])


def _met_of(level: Path, spelled: Path) -> Path:
    """Return a level without the steps to elements that its spelling has not."""
    met: list[Step] = []
    for step in level:
        if step is not ELEMENT or spelled[len(met) : len(met) + 1] == (ELEMENT,):
            met.append(step)
    return tuple(met)
