"""What a user may say about a run, checked and settled once."""

from __future__ import annotations

import os
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, fields, replace
from typing import TYPE_CHECKING, Literal, get_args

from tessaron.core.base.arrays import ArrowRows
from tessaron.core.base.bounds import (
    LEAST_COLUMNS,
    MOST_BYTES,
    MOST_CHUNK_BYTES,
    MOST_COUNTED,
    MOST_LEVELS,
    MOST_WORKERS,
)
from tessaron.core.base.errors import UsageError
from tessaron.core.base.visible import clipped, in_quotes
from tessaron.core.cutting.selecting import PatternSelection
from tessaron.core.kernel.contract import DEPTH_LIMIT, KernelOptions, WhiteSpace
from tessaron.core.model.parting import MOST_COLUMNS
from tessaron.core.shape.structure import StructureRules
from tessaron.engine.run_options import RunOptions
from tessaron.sources.json_chunks import CHUNK_BYTES

if TYPE_CHECKING:
    from tessaron.core.query.jsonpath import JsonPath

LEAST_MEMORY = 200 * 1000 * 1000
"""The least memory that a run can be bounded to, in bytes."""
_SHARED_CHUNK_BYTES = 4 * 1024 * 1024
"""The largest chunk where several threads work, each of which holds a few."""
_FIRST_CHUNK_BYTES = 256 * 1024
"""The largest chunk where only the first records are wanted."""
_THREAD_BYTES = 100 * 1000 * 1000
"""What is left for each thread that works: the first of them for the interpreter and its libraries."""
_LEAST_ROOM = 60 * 1000 * 1000
"""What a thread should have beyond that; where memory is shorter, fewer of them work."""
_CHUNK_SHARE, _COLLECTED_SHARE = 40, 8
"""Of the room beyond that, a chunk may be one part in so many (it takes up to about 25 times its bytes),
and the rows collected for writing one in so many (encoding them takes up to four times theirs)."""
_COLLECTED_BYTES = 24 * 1024 * 1024
"""Rows collected for writing where memory is not bounded."""

_IN_LAYOUT = {
    "name": "the name of a table under [tables]",
    "records": "records under [reading]",
    "envelope": "envelope under [reading], and a table with around = true",
    "duplicate_keys": "duplicate_keys under [reading]",
    "dictionaries": "dictionaries under [structure], or a path with .*",
    "not_dictionaries": "paths with names",
    "keys": "keys under [reading]",
    "key": "key of the table",
    "origin": 'columns with origin = "origin_file" and the like',
    "only": "the columns of its tables",
    "without": "the columns of its tables",
    "flat": "a table with carry",
    "times": "a table with multiply",
    "with_empty": "with_empty of the table",
    "white_space": "white_space under [reading]",
    "namespaces": "[reading.namespaces]",
    "xsd": "xsd under [reading]",
    "exact": "exact = true at the top",
    "undivided": "tables with only_filled, or with the path of an object",
    "shared": "tables with shared",
    "not_shared": "tables without shared",
    "most_columns": "the columns of its tables",
    "lookups": "tables with once",
}
"""Options that a layout speaks of itself, and where."""


@dataclass(frozen=True, slots=True)
class Options:
    """The options of a run.

    Attributes:
        name: Name of the top table; else from the path to the records, the file's name, or `records`.
        records: Where the records stand in the documents, as JSONPath; else recognised.
        envelope: Whether what stands around the records is kept in a table of its own.
        duplicate_keys: What becomes of a record with a name twice in one object: the `last` value wins, or
            `reject` the record.
        dictionaries, not_dictionaries: Paths of objects that are dictionaries, or are not.
        keys: `sequence` numbers the rows; `digest` makes keys that are the same on every run.
        key: Columns of the top table that are its natural key: checked, and what digest keys are made of.
        first: Only so many records are read; None for all.
        origin: Whether the top table has columns with file, record number and line.
        workers: Threads that parse; None for the number of cores.
        memory: Bytes that bound the whole run; None for no bound beyond the chunks.
        depth_limit: The deepest nesting that is read.
        chunk_bytes: Bytes read at once.
        kernel: `auto`, `compiled` or `python`.
        only, without: Patterns of paths or names that are wanted, or not; see `PatternSelection`.
        flat: The path of the rows of one flat table, with all that is above them repeated.
        times: Paths of rows beside those of the flat table, with which each of them is paired.
        with_empty: Whether rows above without any row in the flat table stay.
        names: Columns are named by their `path`, or by their last name, the `leaf`, as far as that tells
            them apart.
        strict: Whether paths that a layout has and the data has not are a failure, and values beyond
            numbered columns rejects.
        format: `json` or `xml`, where a layout says so; else told from the first letter.
        white_space: Of XML: what becomes of white space at the ends of texts; see `XmlOptions`.
        namespaces: Of XML: namespaces by the prefix that paths shall have for them.
        xsd: Of XML: the file of an XML Schema that says types and repetition, and that records are checked
            against.
        undivided: Whether a level is one table always: else what only rows of one kind have, or few rows, are
            tables of their own.
        shared: Paths of structures that stand at several places and have one table for all of them, however
            few these are.
        not_shared: Whether no other structure has one table for all its places: else what stands at more than
            a handful of places, or makes a table too wide.
        most_columns: So many columns, at most, has a drafted table.
        lookups: Whether a draft has tables of fields that follow from another.
        stop_after: So many rejects are one too many: the run fails then. None for no limit.
        stop_at_share: A larger share of rejected records, 0 to 1, fails the run. None for no limit.
        keep_raw_rejects: Whether rejects keep their records also where a layout masks values.
        skip_unknown: Whether sources, among several, are passed over that do not begin like JSON or XML, and
            those that are empty; else each is a reject.
        exact: Whether every table has a column for the rest of its rows, so that also null, empty and absent
            are told apart.
        on_rows: Is shown the rows of each chunk, as a record batch for each table, before they are written.
    """

    name: str | None = None
    records: str | None = None
    envelope: bool = True
    duplicate_keys: Literal["last", "reject"] = "last"
    dictionaries: Sequence[str] = ()
    not_dictionaries: Sequence[str] = ()
    keys: Literal["sequence", "digest"] = "sequence"
    key: Sequence[str] = ()
    origin: bool = False
    first: int | None = None
    workers: int | None = None
    memory: int | None = None
    depth_limit: int = DEPTH_LIMIT
    chunk_bytes: int = CHUNK_BYTES
    kernel: str = "auto"
    only: Sequence[str] = ()
    without: Sequence[str] = ()
    flat: str | None = None
    times: Sequence[str] = ()
    with_empty: bool = False
    names: Literal["path", "leaf"] = "path"
    strict: bool = False
    format: Literal["json", "xml"] | None = None
    white_space: WhiteSpace = "trim"
    namespaces: Mapping[str, str] = field(default_factory=dict)
    xsd: str | None = None
    exact: bool = False
    undivided: bool = False
    shared: Sequence[str] = ()
    not_shared: bool = False
    most_columns: int = MOST_COLUMNS
    lookups: bool = False
    stop_after: int | None = None
    stop_at_share: float | None = None
    keep_raw_rejects: bool = False
    skip_unknown: bool = False
    on_rows: Callable[[Mapping[str, ArrowRows]], None] | None = None
    as_documents: bool = field(default=False, metadata={"is_own": True})
    """Whether no envelope is looked for: set by a layout that names no place of records."""

    def __post_init__(self) -> None:
        if self.duplicate_keys not in ("last", "reject"):
            raise UsageError(f"expected duplicate_keys of last, reject, got {in_quotes(self.duplicate_keys)}")
        if self.keys not in ("sequence", "digest"):
            raise UsageError(f"expected keys of sequence, digest, got {in_quotes(self.keys)}")
        for name, value, least, most in (
            ("workers", self.workers, 1, MOST_WORKERS),
            ("most_columns", self.most_columns, LEAST_COLUMNS, MOST_COUNTED),
            ("memory", self.memory, LEAST_MEMORY, MOST_BYTES),
            ("depth_limit", self.depth_limit, 1, MOST_LEVELS),
            ("chunk_bytes", self.chunk_bytes, 1, MOST_CHUNK_BYTES),
            ("first", self.first, 1, MOST_COUNTED),
            ("stop_after", self.stop_after, 0, MOST_COUNTED),
        ):
            if value is not None and value < least:
                raise UsageError(f"expected {name} of at least {least:,}, got {value:,}")
            if value is not None and value > most:
                raise UsageError(f"expected {name} of at most {most:,}, got {clipped(f'{value:,}')}")
        if self.stop_at_share is not None and not 0 <= self.stop_at_share <= 1:
            raise UsageError(f"expected stop_at_share from 0 to 1, got {in_quotes(self.stop_at_share)}")
        if self.flat is None and (self.times or self.with_empty):
            name = "times" if self.times else "with_empty"
            raise UsageError(f"{name} goes with flat: it speaks of the rows of a flat table")
        if self.flat is not None and self.shared:
            raise UsageError(
                "shared does not go with flat: a flat table has all of a row, wherever it stands"
            )
        if self.white_space not in get_args(WhiteSpace):
            raise UsageError(
                f"expected white_space of trim, collapse, keep, got {in_quotes(self.white_space)}"
            )

    @classmethod
    def of(cls, options: RunOptions) -> Options:
        """Return the options that were given by name.

        Raises:
            TypeError: When there is no option of a name.
        """
        known = [each.name for each in fields(cls) if "is_own" not in each.metadata]
        unknown = sorted(options.keys() - set(known))
        if unknown:
            raise TypeError(f"unknown option {in_quotes(unknown[0])}; there are {', '.join(known)}")
        return cls(**options)

    def check_for_json(self) -> None:
        """Check that nothing is said here that is for XML only, and that paths are JSONPath.

        Raises:
            UsageError: With the first thing that is not.
        """
        for path in (self.records, *self.dictionaries, *self.not_dictionaries, *self.shared):
            if path is not None:
                from tessaron.core.query.jsonpath import parse_path

                parse_path(path)
        if self.namespaces or self.white_space != "trim" or self.xsd is not None:
            raise UsageError("namespaces, white_space and xsd are for XML; this source is JSON")

    def check_for_xml(self) -> None:
        """Check that nothing is said here that is for JSON only, and that paths are XPath.

        Raises:
            UsageError: With the first thing that is not.
        """
        for name in ("duplicate_keys", "dictionaries", "not_dictionaries"):
            if getattr(self, name) != getattr(Options(), name):
                raise UsageError(f"{name} is for JSON; this source is XML")
        if self.records is not None:
            if self.records.startswith("$"):
                raise UsageError(
                    f"expected a path of XPath 1.0 such as /manifest/consignment, as this source is XML, "
                    f"got {in_quotes(self.records)}"
                )
            from tessaron.core.query.xpath_location import parse_location

            parse_location(self.records)

    def check_with_layout(self) -> None:
        """Check that nothing is said here which the layout speaks of itself.

        Raises:
            UsageError: With the first option that does not go with a layout, and where it belongs.
        """
        plain = Options()
        for name, place in _IN_LAYOUT.items():
            if getattr(self, name) != getattr(plain, name):
                raise UsageError(f"{name} does not go with a layout; say it there: {place}")

    def for_layout(self) -> Options:
        """Return the options without those of which a layout speaks itself."""
        plain = Options()
        return replace(self, **{name: getattr(plain, name) for name in _IN_LAYOUT})

    def path(self) -> JsonPath | None:
        """Return the parsed path to the records."""
        if self.records is None:
            return None
        from tessaron.core.query.jsonpath import parse_path

        return parse_path(self.records)

    def kernel_options(self) -> KernelOptions:
        """Return what the kernel has to know."""
        return KernelOptions(self.duplicate_keys == "reject", self.depth_limit, tells_halves=self.exact)

    def selection(self) -> PatternSelection | None:
        """Return what the patterns ask for; None if there are none."""
        return PatternSelection(self.only, self.without) if self.only or self.without else None

    def structure_rules(self) -> StructureRules:
        """Return what is said about single paths."""
        return StructureRules(tuple(self.dictionaries), tuple(self.not_dictionaries))

    def worker_count(self) -> int:
        """Return how many threads parse: as many as asked for and memory allows."""
        if self.first is not None:
            return 1
        wanted = self.workers if self.workers is not None else (os.cpu_count() or 1)
        if self.memory is None:
            return wanted
        return max(1, min(wanted, self.memory // (_THREAD_BYTES + _LEAST_ROOM)))

    def collected_bytes(self) -> int:
        """Return how many bytes of rows may be collected before they are written."""
        if self.memory is None:
            return _COLLECTED_BYTES
        return min(_COLLECTED_BYTES, self._room() // _COLLECTED_SHARE)

    def _room(self) -> int:
        assert self.memory is not None
        return max(self.memory - self.worker_count() * _THREAD_BYTES, _LEAST_ROOM)

    def bounded_chunk_bytes(self) -> int:
        """Return the bytes read at once, fewer where memory is short."""
        chunk_bytes = self.chunk_bytes
        if self.first is not None:
            chunk_bytes = min(chunk_bytes, _FIRST_CHUNK_BYTES)
        if self.worker_count() > 1:
            chunk_bytes = min(chunk_bytes, _SHARED_CHUNK_BYTES)
        if self.memory is None:
            return chunk_bytes
        return min(chunk_bytes, self._room() // (_CHUNK_SHARE * self.worker_count()))
