"""How a layout says that its sources are read, as options."""

from __future__ import annotations

from dataclasses import replace

from tessaron.core.base.paths import Origin
from tessaron.core.plan.compiling import CompiledLayout
from tessaron.engine.options import Options


def with_layout(options: Options, compiled: CompiledLayout) -> Options:
    """Return the options with what the layout says of reading."""
    part = compiled.reading
    plans = [column for table in compiled.records.tables for column in table.columns]
    ends = {each.source.path[-1] for each in plans if each.source is not None and each.source.path}
    return replace(
        options,
        records=part.records,
        as_documents=part.records is None,
        envelope=part.envelope and (compiled.around is not None or Origin.DOCUMENT in ends),
        duplicate_keys=part.duplicate_keys,
        format=part.format,
        white_space=part.white_space,
        namespaces=part.namespaces,
        xsd=part.xsd,
        keys=part.keys,
        exact=compiled.records.exact,
        key=compiled.records.natural_key,
        origin=options.origin or compiled.wants_origin,
        # A chunk becomes fragment, columns and rows at once here: where memory is short it is smaller.
        chunk_bytes=options.bounded_chunk_bytes() // (1 if options.memory is None else 3),
    )
