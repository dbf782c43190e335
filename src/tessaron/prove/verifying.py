"""Verifying an export: documents made again of its tables, compared with the source record by record."""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Iterator, Sequence
from contextlib import ExitStack
from dataclasses import asdict, dataclass, field, replace
from pathlib import Path

from tessaron.core.base.errors import Code, DataError, SourceError, UsageError
from tessaron.core.base.parsed_values import Parsed
from tessaron.core.base.paths import ELEMENT, step_of_name
from tessaron.core.base.shown_forms import Shown
from tessaron.core.cutting.selecting import Selection
from tessaron.core.plan.compiling import CompiledLayout
from tessaron.core.rebuild.differences import Difference, differences, xml_differences
from tessaron.decide.layout_file import Layout
from tessaron.decide.layout_options import with_layout
from tessaron.engine.options import Options
from tessaron.engine.run_progress import NoProgress, Progress
from tessaron.prove.database_copies import TablesAt, local_tables
from tessaron.prove.digest_streams import One, Side, pass_equal, skip, unmatched
from tessaron.prove.keyed_tables import KeyedTables
from tessaron.prove.source_digests import Digests, SourceDigests
from tessaron.prove.table_checks import Check, TableChecks
from tessaron.prove.table_digests import TableDigests
from tessaron.prove.worked_on import compare_worked_on
from tessaron.sources.forms.addresses import without_user
from tessaron.sources.forms.file_form import FileForm
from tessaron.sources.inputs import Input
from tessaron.sources.remote.store_urls import is_store
from tessaron.sources.resolving import Source, is_source, resolve_inputs
from tessaron.write.books.balance import balances_of
from tessaron.write.books.receipt import read_rejects

_LOOKED_AT = 1_000
"""So many records that differ are looked at place by place; all are counted."""
_SHOWN = 20


@dataclass(frozen=True, slots=True)
class DifferenceFound:
    """Differences of one kind at one path.

    Attributes:
        kind: A key of `differences.KINDS`.
        path: Where, for all records alike.
        count: How many.
        source: The first one's source.
        record: The number of its record there, from 1, among those that could be read.
        place: Where in that record.
        in_source, in_tables: What stands there on either side, shortened.
    """

    kind: str
    path: str
    count: int
    source: str
    record: int
    place: str
    in_source: str = ""
    in_tables: str = ""


@dataclass(frozen=True, slots=True)
class Verification(Shown):
    """What verify has found.

    Attributes:
        folder: The folder.
        sources: What it was compared with.
        exact: Whether null, empty and absent are told apart.
        records: Records compared.
        differing: Records that are not the same.
        looked_at: How many of these were looked at place by place.
        differences: What is different, the most frequent first.
        checks: How the checks of the tables came out.
        left_out: Values that the layout leaves out by intention, by path.
        worked_on: Columns that hold something else than stood in the source, with the reason; they were
            worked out again and compared.
        rejected: Records of the source that could not be read, or were rejected.
        is_sample: Whether only the first records were compared.
        is_remade: Whether the layout makes another structure of the documents, so that its tables were made
            once more and compared, instead of the documents.
    """

    folder: str
    sources: tuple[str, ...]
    exact: bool
    records: int
    differing: int
    looked_at: int
    differences: tuple[DifferenceFound, ...]
    checks: tuple[Check, ...]
    left_out: dict[str, int] = field(default_factory=dict)
    worked_on: dict[str, str] = field(default_factory=dict)
    rejected: int = 0
    is_sample: bool = False
    is_remade: bool = False

    @property
    def is_identical(self) -> bool:
        """Whether the tables hold what the sources hold."""
        return not self.differing and not self.differences

    @property
    def passed(self) -> bool:
        """Whether nothing differs and no check failed."""
        return self.is_identical and all(check.passed for check in self.checks)

    def to_json(self) -> str:
        """Return the whole as JSON."""
        return json.dumps(asdict(self) | {"passed": self.passed}, ensure_ascii=False, indent=2)


def verify(
    folder: str | Path,
    source: Source | None = None,
    *,
    sample: int | None = None,
    layout: Layout | None = None,
    workers: int | None = None,
    kernel: str = "auto",
    progress: Progress | None = None,
    schema: str | None = None,
    runs_schema: str | None = None,
    name: str | None = None,
    password: str | None = None,
) -> Verification:
    """Compare the tables in a folder with what they were made of, and check the tables in themselves.

    Args:
        folder: The folder of an export, the URL of one in a store, or of a database that runs have loaded.
        source: As in `shred`; else the sources in the receipt.
        sample: Only so many records, the first, are compared; the tables are checked whole.
        layout: The layout; else the one in the folder.
        workers: Threads that read the source; else one per core.
        kernel: As in `Options`.
        progress: Is told how far it is.
        schema: Of a database: the schema that the tables stand in.
        runs_schema: The schema of its table of runs; else that.
        name: Its table of records, where several have been loaded.
        password: Where its password stands, as in `load`.

    Raises:
        SourceError: When the folder, the receipt or a source is missing or cannot be read.
        UsageError: When an argument cannot be right.
    """
    if sample is not None and sample < 1:
        raise UsageError(f"expected a sample of at least 1 record, got {sample:,}")
    with local_tables(TablesAt(folder, schema, runs_schema, name, password)) as here:
        tables = KeyedTables(here, layout, to_compare=True)
        named = source if source is not None else _sources_in(tables.receipt, without_user(str(folder)))
        return _compared(
            tables, named, without_user(str(folder)), sample, workers, kernel, progress or NoProgress()
        )


def _compared(
    tables: KeyedTables,
    named: Source,
    folder: str,
    sample: int | None,
    workers: int | None,
    kernel: str,
    progress: Progress,
) -> Verification:
    receipt = tables.receipt
    checks = _checked(tables, receipt)
    options = Options(
        first=sample, workers=workers, kernel=kernel,
        **({"depth_limit": receipt["depth_limit"]} if "depth_limit" in receipt else {}),
    )  # fmt: skip
    work = _Comparison(tables, receipt, options, progress)
    try:
        work.run(named)
    except (DataError, SourceError) as error:
        if all(check.passed for check in checks):
            raise
        checks.append(Check(folder, "records", 1, f"not compared: {error}"))
    except (ArithmeticError, LookupError, TypeError, ValueError) as error:
        # What is broken in itself, keys above all, need not come to an end that has words of its own.
        if all(check.passed for check in checks):
            raise
        checks.append(Check(folder, "records", 1, f"not compared, as the checks failed ({error})"))
    return Verification(
        folder, tuple(work.names), tables.layout.part.exact, work.records, work.differing,
        work.looked_at, work.found(), (*checks, *work.checks), dict(work.left_out), tables.way.lost,
        work.rejected, sample is not None, tables.way.changes,
    )  # fmt: skip


def _sources_in(receipt: dict[str, Parsed], folder: str) -> list[Path | str]:
    names = [source["name"] for source in receipt.get("sources", ())]
    if not names:
        said = "has no receipt that names all its sources; name them: verify FOLDER SOURCE"
        raise UsageError(f"{folder}: {said}")
    gone = [name for name in names if not is_store(name) and not is_source(Path(name))]
    if gone:
        raise SourceError(f"{gone[0]}: the source is not there (any more); name it: verify FOLDER SOURCE")
    return [name if is_store(name) else Path(name) for name in names]


def _checked(tables: KeyedTables, receipt: dict[str, Parsed]) -> list[Check]:
    known = {table["name"]: table for table in receipt.get("tables", ())}
    gaps = {name for name, count in receipt.get("filtered", {}).items() if count}
    below = tables.written()
    has_gaps = gaps or tables.way.changes or not FileForm.of(receipt).is_ordered
    every = frozenset(table.name for table in below) if has_gaps else frozenset()
    # Where records were replaced keys have gaps.
    are_counted = bool(receipt.get("is_ordered", True))
    found = TableChecks(tables.files, below, known, every, are_counted).run()
    return [*found, *_totals(receipt)]


def _totals(receipt: dict[str, Parsed]) -> list[Check]:
    """Check that the receipt adds up in itself."""
    return [Check(each.name or "receipt", "sum", abs(each.gap), each.text()) for each in balances_of(receipt)]


class _Comparison:
    """One comparison of sources with tables."""

    def __init__(self, tables: KeyedTables, receipt: dict[str, Parsed], options: Options, progress: Progress):
        self._tables, self._receipt, self._progress = tables, receipt, progress
        self._exact = tables.layout.part.exact
        self._compiled, self._whole = self._what_goes_back()
        self._options = with_layout(options, self._compiled)
        self._given = options
        self.names: list[str] = []
        self.records = self.differing = self.looked_at = self.rejected = 0
        self.checks: list[Check] = []
        self.left_out: Counter[str] = Counter()
        self._pairs: list[tuple[str, int, int, int]] = []
        self._found: dict[tuple[str, str], DifferenceFound] = {}

    def _what_goes_back(self) -> tuple[CompiledLayout, bool]:
        """Return the layout with nothing but what comes back, and whether all of the source was taken."""
        layout = self._tables.layout
        whole = self._receipt.get("layout") is None and bool(self._receipt.get("is_whole"))
        if not self._tables.way.lost:
            return self._tables.compiled, whole
        return layout.compiled_without(self._tables.way.lost), False

    def run(self, source: Source) -> None:
        """Compare all records, and look at those that differ."""
        inputs = resolve_inputs(source)
        self.names = [entry.name for entry in inputs]
        if self._tables.way.lost or self._tables.way.changes:
            is_ordered = bool(self._receipt.get("is_ordered", True))
            again = resolve_inputs(source)
            self.checks += compare_worked_on(self._tables, again, self._given, is_ordered)
        if self._tables.way.changes:
            self.records = int(self._receipt.get("records", 0))
            return
        self._compare(inputs)
        if self._pairs:
            self._look_at(source)

    def found(self) -> tuple[DifferenceFound, ...]:
        """Return what is different, the most frequent first."""
        return tuple(sorted(self._found.values(), key=lambda each: -each.count)[:_SHOWN])

    def _compare(self, inputs: Sequence[Input]) -> None:
        with ExitStack() as stack:
            selection = None if self._whole else self._compiled.records.selection
            source = SourceDigests(
                list(inputs),
                self._options,
                selection,
                self._exact,
                self._progress,
                stack,
                compared=self._tables.compared(),
            )
            made = TableDigests(self._tables, self._exact, self._given)
            if self._receipt.get("is_ordered", True):
                self._align(self._wanted(source), iter(made))
            else:
                self._match(self._wanted(source), iter(made))
            if self._tables.way.around is not None and self._given.first is None:
                self._compare_around(source.around, made.around())
            self.left_out = source.passed
            self.rejected = source.reading.intake.rejected

    def _wanted(self, source: SourceDigests) -> Iterator[Digests]:
        """Yield the source's records without those that the run rejected for what they hold."""
        gone = {
            (each["source"], each["record"])
            for each in read_rejects(self._tables.files.folder)
            if each.get("rejected") == "record" and each.get("code") in _OF_LAYOUT
        }
        for part in source:
            numbers = range(part.first, part.first + len(part.digests))
            keep = [at for at, number in enumerate(numbers) if (part.source, number) not in gone]
            if len(keep) == len(part.digests):
                yield part
            elif keep:
                yield Digests(part.source, part.first, part.digests[keep], part.texts)

    def _match(self, source: Iterator[Digests], made: Iterator[Digests]) -> None:
        """Find the records that only one side has, where the tables do not tell in which order they came."""
        if self._given.first is not None:
            raise UsageError("these tables do not tell which records came first: leave out the sample")
        found = unmatched(source, made)
        self.records += found.matched
        for kind, records in (("record missing", found.left), ("record extra", found.right)):
            for each in records:
                self._note(kind, each)

    def _align(self, source: Iterator[Digests], made: Iterator[Digests]) -> None:
        """Go through both sides; where they differ, look whether a record is missing or one too many."""
        left, right = Side(source), Side(made)
        while True:
            self.records += pass_equal(left, right)
            one, other = left.first(), right.first()
            if one is None or other is None:
                break
            skipped = skip(left, right)
            for kind, each in skipped:
                self._note(kind, each)
            if not skipped:
                self.differing += 1
                self.records += 1
                if len(self._pairs) < _LOOKED_AT:
                    self._pairs.append((one.source, one.number, one.digest, other.digest))
                left.pass_over(1)
                right.pass_over(1)
        if self._given.first is not None:
            return
        for side, kind in ((left, "record missing"), (right, "record extra")):
            while (rest := side.first()) is not None:
                self._note(kind, rest)
                side.pass_over(1)

    def _note(self, kind: str, one: One) -> None:
        self.differing += 1
        self._add(DifferenceFound(kind, "", 1, one.source, one.number, ""))

    def _add(self, found: DifferenceFound) -> None:
        known = self._found.get((found.kind, found.path))
        self._found[found.kind, found.path] = replace(known, count=known.count + 1) if known else found

    def _compare_around(self, source: list[int], made: list[int]) -> None:
        for number, (one, other) in enumerate(zip(source, made, strict=False), 1):
            if one != other:
                self._add(DifferenceFound("value", "around the records", 1, "document", number, ""))
        for number in range(min(len(source), len(made)), max(len(source), len(made))):
            kind = "missing" if number < len(source) else "extra"
            self._add(DifferenceFound(kind, "around the records", 1, "document", number + 1, ""))

    def _look_at(self, source: Source) -> None:
        """Read both sides once more for the records that differ, and compare these place by place."""
        left = frozenset(one for _, _, one, _ in self._pairs)
        right = frozenset(other for _, _, _, other in self._pairs)
        texts: dict[int, str] = {}
        with ExitStack() as stack:
            selection = None if self._whole else self._compiled.records.selection
            reader = SourceDigests(
                resolve_inputs(source),
                self._options,
                selection,
                self._exact,
                NoProgress(),
                stack,
                left,
                self._tables.compared(),
            )
            for part in reader:
                texts.update(part.texts)
        others: dict[int, str] = {}
        for part in TableDigests(self._tables, self._exact, self._given, right):
            others.update(part.texts)
        compare = xml_differences if self._tables.is_xml else differences
        for name, number, one, other in self._pairs:
            if one not in texts or other not in others:
                self._add(DifferenceFound("value", "$", 1, name, number, "$"))
                continue
            self.looked_at += 1
            found = [*compare(texts[one], others[other], self._exact)]
            if not found:
                is_moved = self._tables.is_xml or texts[one] == others[other]
                kind = "place" if is_moved else "value"
                self._add(DifferenceFound(kind, "", 1, name, number, ""))
            for each in found:
                if selection is not None and not self._tables.is_xml and not _is_chosen(selection, each):
                    continue
                self._add(
                    DifferenceFound(
                        each.kind, each.path, 1, name, number, each.place, each.source, each.tables
                    )
                )


def _is_chosen(selection: Selection, found: Difference) -> bool:
    """Say whether the layout asks for what stands at the place of a difference."""
    place = 0
    for step in found.location:
        place = selection.step(place, ELEMENT if isinstance(step, int) else step_of_name(step))
        if place < 0:
            return False
    return bool(selection.wanted(place))


_OF_LAYOUT = frozenset(
    (
        Code.MISFIT, Code.REQUIRED, Code.ALLOWED, Code.RANGE, Code.PATTERN, Code.UNIQUE, Code.ONCE,
        Code.BEYOND, Code.DIVISION_BY_ZERO, Code.OVERFLOW, Code.NOT_CONVERTIBLE, Code.EMBEDDED,
        Code.ROW_TOO_LONG, Code.PIECE_REPEATED, Code.PIECE_NOT_OBJECT, Code.NAME_TAKEN, Code.NAME_REPEATED,
    )
)  # fmt: skip
"""Codes of rejects for what a record holds: it can be read, and yet stands in no table."""
