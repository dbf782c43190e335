"""The records in a file of rejects, mended by hand, as a source of their own."""

from __future__ import annotations

import io
import json
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from tessaron.core.base.errors import Code, DataError, Place, SourceError, UsageError
from tessaron.engine.options import Options
from tessaron.sources.inputs import ByteInput, Input

if TYPE_CHECKING:
    from tessaron.decide.layout_file import Layout


def inputs_of_rejects(path: Path, options: Options, layout: Layout | None) -> tuple[list[Input], Options]:
    """Return the rejected records of an earlier export as a source, and the options to read them with.

    Args:
        path: The `rejects.ndjson`, in which `raw` holds each record.
        options: The options of the run.
        layout: The layout of the run, if there is one.

    Raises:
        SourceError: When the file cannot be read.
        DataError: When a line is no reject.
        UsageError: When it has no whole record.
    """
    raws = _raws(path)
    if not raws:
        raise UsageError(f"{path}: has no record that could be read again; values and cut records are not")
    if raws[0].lstrip().startswith("<"):
        name = f"{path.name}"
        inputs: list[Input] = [ByteInput(name, len(raw), stream=io.BytesIO(raw.encode())) for raw in raws]
        return inputs, options if layout is not None else replace(options, records="/*")
    # A line break cannot stand inside a text of JSON; without them each record is a line.
    data = "".join(raw.replace("\n", " ") + "\n" for raw in raws).encode()
    records = options.records if layout is not None else "$"
    return [ByteInput(str(path), len(data), stream=io.BytesIO(data))], replace(
        options, records=records, envelope=options.envelope and layout is not None
    )


def _raws(path: Path) -> list[str]:
    try:
        lines = path.read_text("utf-8").splitlines()
    except OSError as error:
        raise SourceError(f"{path}: cannot be read: {error.strerror}") from error
    except UnicodeDecodeError as error:
        raise SourceError(f"{path}: is not UTF-8: byte {error.start}") from error
    found = []
    for number, line in enumerate(lines, 1):
        try:
            reject = json.loads(line)
            is_record = reject["rejected"] == "record" and reject["is_whole"]
            raw = reject["raw"]
        except (ValueError, KeyError, TypeError) as error:
            raise DataError(
                "expected a line of a rejects.ndjson", Place(str(path), number), Code.SYNTAX
            ) from error
        if is_record and raw:
            found.append(raw)
    return found
