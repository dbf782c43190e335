"""Estimating: a sample is exported here, twice at two sizes, and what it takes is carried to the whole."""

from __future__ import annotations

import gc
import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Unpack

from tessaron.core.base.errors import DataError, Place, UsageError
from tessaron.core.base.parsed_values import Parsed
from tessaron.engine.options import Options
from tessaron.engine.parts.process_memory import peak_bytes
from tessaron.engine.run_options import RunOptions
from tessaron.forecast.cost_model import Measured, RunCost, cost_here, cost_on_cluster
from tessaron.forecast.sampled_files import SampledFile, listed, sampled_files
from tessaron.sinks.receipt_text import plain_data, spread_json
from tessaron.sources.formats import recognise_format
from tessaron.sources.forms.file_form import FormatName
from tessaron.sources.inputs import ByteInput
from tessaron.sources.resolving import Source, resolve_inputs
from tessaron.write.books.receipt import Receipt
from tessaron.write.export import export

if TYPE_CHECKING:
    from tessaron.decide.layout_file import Layout

SAMPLE_BYTES = 32 * 1024 * 1024
"""So much of the source is read, unless another size is asked for."""
_PART_OF_SAMPLE = 4
"""The smaller sample is so many times smaller: two sizes tell what does not depend on the size."""
_ROUNDS = 3
"""The best of so many counts: other work on the machine only ever adds time."""
_LEAST_RUN = "import sys, tessaron; tessaron.export([{'call': 1}], sys.argv[1], sync=False)"
_MOST_OF_XML, _FIRST_RECORDS = 4, 500
"""Of a document of XML that is so many times larger than the sample the first records are taken."""
_USUAL = (4, 16, 64)
"""Workers of clusters that are told of where none are asked for."""


@dataclass(frozen=True, slots=True)
class Estimate:
    """What a run would take.

    Attributes:
        files: Files of the source.
        bytes: Their bytes.
        unpacked_bytes: About what comes out of them.
        sample: What the sample took.
        sample_files: Files of the source that it was taken of.
        records, rows: About how many there are.
        output_bytes: About what is written.
        costs: What runs take, on this machine and on clusters.
    """

    files: int
    bytes: int
    unpacked_bytes: int
    sample: Measured
    sample_files: int
    records: int
    rows: int
    output_bytes: int
    costs: tuple[RunCost, ...]

    @property
    def tables(self) -> int:
        """The tables that the sample makes."""
        return self.sample.tables

    def to_json(self) -> str:
        """Return all of it as JSON."""
        data: dict[str, Parsed] = dict(plain_data(self))
        return spread_json(data) + "\n"


def estimate(
    source: Source,
    *,
    on_workers: Sequence[int] = (),
    part_bytes: int | None = None,
    sample_bytes: int = SAMPLE_BYTES,
    format: FormatName = "parquet",
    layout: Layout | None = None,
    **options: Unpack[RunOptions],
) -> Estimate:
    """Return what an export of a source would take; a sample of it is exported into a temporary folder.

    Args:
        source: As in `export`, but files, folders or object stores, which can be listed.
        on_workers: Workers of the clusters that are told of; else 4, 16 and 64.
        part_bytes: As in `Cluster`.
        sample_bytes: About so many bytes are read.
        format: As in `export`.
        layout: As in `export`.
        **options: As in `export`.

    Raises:
        SourceError: When a source cannot be read.
        DataError: When nothing of it is JSON or XML.
        UsageError: When an argument cannot be right, or the source cannot be listed.
    """
    settled = Options.of(options)
    inputs = resolve_inputs(source)
    files, byte_count = listed(inputs)
    first = inputs[0] if inputs else None
    if not byte_count or not isinstance(first, ByteInput):
        raise UsageError("expected files, folders or an object store, which can be listed with their sizes")
    is_xml = recognise_format(first)[0] == "xml"
    told: RunOptions = {**options, "workers": 1, "on_rows": None}
    with tempfile.TemporaryDirectory(prefix="tessaron-") as name:
        folder = Path(name)
        trial = _Trial(folder, format, layout, told)
        sizes = (sample_bytes // _PART_OF_SAMPLE, sample_bytes)
        is_large = first.path is not None and (first.size or 0) > _MOST_OF_XML * sample_bytes
        if is_xml and is_large:
            small, large = (_records_of(first, trial, size) for size in sizes)
        else:
            small, large = (
                sampled_files(inputs, settled, folder / f"sample-{size}", size, is_xml) for size in sizes
            )
        if not large:
            raise DataError("nothing could be read for a sample", Place(first.name))
        measured = _measured(small, large, trial)
    whole = max(byte_count * measured.bytes / measured.packed_bytes, 1)
    times = whole / measured.bytes
    output = measured.written_bytes + measured.written_share * (whole - measured.bytes)
    costs = [cost_here(measured, whole, count) for count in sorted({1, settled.worker_count()})]
    counts = tuple(on_workers) or _USUAL
    costs += [cost_on_cluster(measured, whole, files, count, part_bytes) for count in counts]
    return Estimate(
        files, byte_count, round(whole), measured, len(large), round(measured.records * times),
        round(measured.rows * times), round(output), tuple(costs),
    )  # fmt: skip


@dataclass
class _Trial:
    """Exports samples, and measures what that takes."""

    folder: Path
    format: FormatName
    layout: Layout | None
    options: RunOptions
    count: int = 0

    def export(self, sample: Sequence[SampledFile]) -> tuple[Receipt, float, int]:
        """Return the receipt, the seconds of the processor, and the bytes written."""
        self.count += 1
        target = self.folder / f"tables-{self.count}"
        gc.collect()
        begun = time.process_time()
        files = [each.path for each in sample]
        options = self.options
        if sample[0].records is not None:
            options = {**options, "first": sample[0].records}
        receipt = export(files, target, format=self.format, layout=self.layout, sync=False, **options)
        seconds = time.process_time() - begun
        written = sum(each.stat().st_size for each in target.rglob("*") if each.is_file())
        return receipt, seconds, written


def _records_of(entry: ByteInput, trial: _Trial, most_bytes: int) -> list[SampledFile]:
    """Return the first records of a document of XML that is too large to be taken as a whole."""

    def read(records: int) -> tuple[int, int]:
        receipt, _, _ = trial.export([SampledFile(Path(entry.name), 0, 0, records)])
        return receipt.records, sum(source.bytes for source in receipt.sources)

    # What is read ahead of the last record is in both.
    fewer, fewer_bytes = read(_FIRST_RECORDS)
    more, more_bytes = read(3 * _FIRST_RECORDS)
    if more > fewer and more_bytes > fewer_bytes:
        each = (more_bytes - fewer_bytes) / (more - fewer)
    else:
        each = more_bytes / max(more, 1)
    records = max(round(most_bytes / each), 1)
    taken = round(records * each)
    return [SampledFile(Path(entry.name), taken, taken, records)]


def _measured(small: Sequence[SampledFile], large: Sequence[SampledFile], trial: _Trial) -> Measured:
    """Export the sample, and a smaller one; return what they took."""
    small_bytes, large_bytes = (sum(each.bytes for each in sample) for sample in (small, large))
    # The first run of a process loads what all others find.
    trial.export(small)
    trials = [trial.export(small) for _ in range(_ROUNDS)]
    least, small_written = min(seconds for _, seconds, _ in trials), trials[0][2]
    receipt, seconds, written = trial.export(large)
    seconds = min(seconds, *(trial.export(large)[1] for _ in range(_ROUNDS - 1)))
    more_bytes = large_bytes - small_bytes
    step, share = seconds / large_bytes, written / large_bytes
    if more_bytes > large_bytes / 2:
        step = min(max((seconds - least) / more_bytes, step / 2), step)
        # What stands in every file, and beside them, is written once.
        share = max((written - small_written) / more_bytes, 0.0)
    fixed = _start_seconds() + max(seconds - step * large_bytes, 0)
    return Measured(
        large_bytes,
        sum(each.packed_bytes for each in large),
        receipt.records,
        receipt.rows,
        len(receipt.tables),
        written,
        share,
        fixed,
        step,
        peak_bytes(),
    )


def _start_seconds() -> float:
    """Return the seconds of the processor that a process takes to begin, load, and export next to nothing."""
    with tempfile.TemporaryDirectory(prefix="tessaron-") as folder:
        before = os.times()
        subprocess.run(
            [sys.executable, "-c", _LEAST_RUN, f"{folder}/tables"], check=False, capture_output=True
        )
        after = os.times()
    return after.children_user + after.children_system - before.children_user - before.children_system
