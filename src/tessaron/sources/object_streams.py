"""Python objects as streams of documents: texts and bytes one by one, tables of Arrow, what comes later.

Nothing is held but what is being read.
"""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterable, Callable, Iterator
from itertools import chain
from typing import Any, BinaryIO, cast

from tessaron.core.base.errors import UsageError


def in_turn(source: AsyncIterable[object]) -> Iterator[object]:
    """Yield what comes of an asynchronous iterable, waiting for each.

    Raises:
        UsageError: When an event loop runs already in this thread, which could not go on meanwhile.
    """
    try:
        asyncio.get_running_loop()
    except RuntimeError:
        pass
    else:
        raise UsageError("an event loop runs in this thread; read it in another: asyncio.to_thread(…)")
    loop = asyncio.new_event_loop()
    values = source.__aiter__()
    try:
        while True:
            try:
                yield loop.run_until_complete(_next_of(values))
            except StopAsyncIteration:
                return
    finally:
        loop.close()


async def _next_of(values: Any) -> object:
    return await values.__anext__()


def texts_as_stream(texts: Iterator[object]) -> BinaryIO:
    """Return a stream of JSON texts or lines of such, given as texts or bytes, one after another.

    Raises:
        UsageError: While it is read, when something else is among them.
    """
    from tessaron.core.lines.row_records import LineStream

    return cast("BinaryIO", LineStream(map(_bytes_of, texts)))


def _bytes_of(value: object) -> bytes:
    if isinstance(value, str):
        return value.encode() + b"\n"
    if isinstance(value, (bytes, bytearray, memoryview)):
        return bytes(value) + b"\n"
    raise UsageError(f"expected texts or bytes only, as the first was one, got {type(value).__name__}")


def arrow_rows(source: Any) -> tuple[BinaryIO, str, Callable[[], str]]:
    """Return the rows of an Arrow stream as lines of JSON, what was found out, and what will have been then.

    Args:
        source: Anything with `__arrow_c_stream__`: a table, a batch reader, a data frame.
    """
    import pyarrow as pa

    from tessaron.core.lines.row_records import LineStream, RecordLines, RowForm

    reader = pa.RecordBatchReader.from_stream(source)
    first = next(iter(reader), None)
    form = RowForm(frozenset()) if first is None else RowForm.of(first, True)
    batches = chain([] if first is None else [first], reader)

    lines = RecordLines(batches, form)
    shown = ", ".join(sorted(form.documents))
    said = f"rows are records, with the documents of {shown} in them" if shown else ""
    return cast("BinaryIO", LineStream(iter(lines))), said, lines.said
