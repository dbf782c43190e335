"""What a user may give as a source, and which inputs it stands for."""

from __future__ import annotations

import glob
import io
import os
import re
from collections.abc import AsyncIterable, Iterable, Iterator, Mapping, Sequence
from contextlib import nullcontext
from dataclasses import replace
from itertools import chain, islice
from operator import attrgetter
from pathlib import Path
from typing import IO, Any, BinaryIO, Protocol, cast

from tessaron.core.base.errors import SourceError, UsageError
from tessaron.core.base.visible import clipped
from tessaron.sources.archives import (
    HEAD_BYTES,
    Member,
    Open,
    begins_archive,
    is_archive,
    kept_bytes,
    members_of,
)
from tessaron.sources.database.database_query import DatabaseQuery
from tessaron.sources.forms.addresses import without_user
from tessaron.sources.forms.document_choice import choose_documents, natural_order
from tessaron.sources.forms.encodings import Joined
from tessaron.sources.forms.endings import (
    ARCHIVE_ENDINGS,
    JSON_ENDINGS,
    TABULAR_ENDINGS,
    XML_ENDINGS,
)
from tessaron.sources.inputs import ByteInput, Input, ObjectInput
from tessaron.sources.remote.store_urls import is_store
from tessaron.sources.tables.table_source import TableSource
from tessaron.sources.web.api_feed import ApiFeed


class ArrowStream(Protocol):
    """What gives its rows through Arrow's C stream interface."""

    def __arrow_c_stream__(self, requested_schema: object = None) -> object:
        """Return the stream as a capsule."""


Source = (
    DatabaseQuery | ApiFeed | TableSource | str | os.PathLike[str] | bytes | bytearray | memoryview
    | IO[bytes] | Mapping[str, object] | Iterable[object] | AsyncIterable[object] | ArrowStream
)  # fmt: skip
"""What documents may come from; see `resolve_inputs`."""


def resolve_inputs(source: Source) -> list[Input]:
    """Return the inputs that `source` stands for.

    Args:
        source: A query of a database, a web API, a path (file, folder or pattern), a text or bytes of JSON
            or XML, an open binary file, a dict (one record), any iterable of records or of texts of JSON,
            also an asynchronous one, anything with rows of Arrow, or a list of paths, read one after the
            other as one feed.

    Raises:
        SourceError: When a path leads nowhere, or a folder has no JSON or XML file, or both.
        UsageError: When `source` is none of these.
    """
    if isinstance(source, (ApiFeed, TableSource)):
        return list(_inputs_at(source, {}))
    if isinstance(source, DatabaseQuery):
        from tessaron.sources.database.query_rows import QueryRows

        found = QueryRows(source)
        entry = ByteInput(found.name, opener=found.open, said=found.said, title=source.title)
        return [replace(entry, after=found.after, mark=None if source.mark is None else found.mark)]
    known: _Members = {}
    if isinstance(source, (str, os.PathLike)):
        return list(_inputs_at(source, known))
    if isinstance(source, (bytes, bytearray, memoryview)):
        return list(_inputs_of_bytes(bytes(source), "<bytes>"))
    if hasattr(source, "read"):
        return list(_inputs_of_file(source))
    if isinstance(source, Mapping):
        return [ObjectInput(iter([dict(source)]))]
    if hasattr(source, "__arrow_c_stream__"):
        from tessaron.sources.object_streams import arrow_rows

        rows, said, after = arrow_rows(source)
        return [ByteInput("<arrow>", stream=rows, said=said, title="records", after=after)]
    if isinstance(source, (list, tuple)) and source and all(map(_is_path, source)):
        return [found for item in source for found in _inputs_at(item, known)]
    if isinstance(source, AsyncIterable):
        from tessaron.sources.object_streams import in_turn

        source = in_turn(source)
    if isinstance(source, Iterable):
        return [_input_of_objects(iter(source))]
    raise UsageError(
        f"expected a path, bytes, an open binary file, a dict, a list or an iterator as source, "
        f"got {type(source).__name__}"
    )


def _is_path(item: object) -> bool:
    return isinstance(item, (str, os.PathLike, ApiFeed, TableSource))


def _input_of_objects(values: Iterator[object]) -> Input:
    """Return records one by one, or texts of JSON, as the first of them is."""
    first = list(islice(values, 1))
    every = chain(first, values)
    if not first or not isinstance(first[0], (str, bytes, bytearray, memoryview)):
        return ObjectInput(every)
    from tessaron.sources.object_streams import texts_as_stream

    return ByteInput("<texts>", stream=texts_as_stream(every))


_Members = dict[str, list[Member]]
"""The members of archives that were listed already, by the name of each."""


def is_source(path: Path) -> bool:
    """Say whether there is a file at a path, or a member of an archive."""
    return path.is_file() or _archive_above(path) is not None


def _inputs_at(source: object, known: _Members) -> Iterator[ByteInput]:
    """Yield the inputs of a path, or of a text: the path of what is there, or a document itself."""
    if isinstance(source, ApiFeed):
        yield _input_of_web(source)
    elif isinstance(source, TableSource):
        yield _input_of_table(source)
    elif isinstance(source, str):
        yield from _inputs_of_text(source, known)
    elif str(source).lower().endswith(".feed.toml"):
        yield _input_of_web(ApiFeed.read(Path(cast("os.PathLike[str]", source))))
    else:
        yield from _inputs_of_path(Path(cast("os.PathLike[str]", source)), known)


def _ending_of(head: bytes) -> str:
    from tessaron.sources.tables.tabular_files import ending_of

    return ending_of(head)


def _inputs_of_bytes(data: bytes, name: str) -> Iterator[ByteInput]:
    if ending := _ending_of(data[:HEAD_BYTES]):
        yield _table_in(name, ending, lambda: nullcontext(io.BytesIO(data)))
    elif begins_archive(name, data[:HEAD_BYTES]):
        yield from _of_archive(name, lambda: nullcontext(io.BytesIO(data)), {})
    else:
        yield ByteInput(name, len(data), stream=io.BytesIO(data))


def _of_archive(name: str, opened: Open, known: _Members, inside: str = "") -> Iterator[ByteInput]:
    """Yield the documents in an archive, in the order of their names, as those of a folder are taken.

    Args:
        name: Of the archive.
        opened: Opens it.
        known: Archives that were listed already.
        inside: Only the member of this name, or what stands below it.
    """
    if name not in known:
        known[name] = members_of(name, opened)
    members = [
        member for member in known[name]
        if not inside or member.name == inside or member.name.startswith(f"{inside}/")
    ]  # fmt: skip
    if inside and not members:
        raise SourceError(f"{name}: has no member {inside}")
    said = ""
    if [member.name for member in members] != [inside]:
        members, said = choose_documents(name, members, attrgetter("name"), "archive")
    for number, member in enumerate(members):
        entry = ByteInput(f"{name}/{member.name}", member.size or None, opener=member.open)
        yield _with_rows(entry, "" if number else said)


def _inputs_of_text(text: str, known: _Members) -> Iterator[ByteInput]:
    """Yield the inputs of a text: the path of what is there, or a document itself."""
    start, end = text.lstrip()[:1], text.rstrip()[-1:]
    if re.match(r"https?://", text) or text.lower().endswith(".feed.toml"):
        yield _input_of_web(ApiFeed.read(text))
        return
    if is_store(text):
        yield from _inputs_of_store(text, known)
        return
    if re.match(r"[a-z][a-z0-9+]+://", text):
        raise UsageError(f"{without_user(text)}: say what to read of it: a table or a query")
    if (start, end) in (("{", "}"), ("<", ">")) or ((start, end) == ("[", "]") and not _names_files(text)):
        yield from _inputs_of_bytes(text.encode(), "<text>")
        return
    yield from _inputs_of_path(Path(text), known)


def _input_of_web(feed: ApiFeed) -> ByteInput:
    """Return the answers of a web API."""
    from tessaron.core.lines.row_records import LineStream

    opened = feed.open()
    pages = opened.pages
    stream = cast("BinaryIO", LineStream(iter(opened)))
    return ByteInput(
        pages.name, stream=stream, after=lambda: pages.ended,
        said=pages.said, title=pages.title, records=pages.records,
        finished=opened.finish, mark=opened.mark,
    )  # fmt: skip


def _input_of_table(table: TableSource) -> ByteInput:
    """Return the rows of a tabular file whose columns of documents are named."""
    if not str(table.path).lower().endswith(TABULAR_ENDINGS):
        endings = ", ".join(TABULAR_ENDINGS)
        raise UsageError(
            f"{table.path}: no table, whose columns could hold documents; these end in {endings}"
        )
    return _with_rows(_input_of_path(Path(table.path)), documents=table.documents)


def _inputs_of_store(url: str, known: _Members) -> Iterator[ByteInput]:
    """Yield the documents of an object store; archives are as folders."""
    from tessaron.sources.remote.store_objects import objects_at

    objects, said = objects_at(url)
    for number, each in enumerate(objects):
        words = "" if number else said
        if each.url.lower().endswith(ARCHIVE_ENDINGS) and is_archive(each.url, each.open):
            yield from _of_archive(each.url, each.open, known)
        else:
            entry = ByteInput(
                each.url, each.size or None, opener=each.open, after=each.changed, stamp=each.stamp,
                store=each.place(),
            )  # fmt: skip
            yield _with_rows(entry, words)


def _names_files(text: str) -> bool:
    try:
        return _is_there(Path(text)) or bool(glob.glob(text, recursive=True))
    except (OSError, ValueError):
        return False


def _is_there(path: Path) -> bool:
    """Say whether something stands at a path; nothing does at one that no system takes."""
    try:
        return path.exists()
    except OSError:
        return False


def _with_rows(entry: ByteInput, said: str = "", documents: Sequence[str] = ()) -> ByteInput:
    """Return a source with what was found out about it; that of a table as one of its rows."""
    if not entry.name.lower().endswith(TABULAR_ENDINGS):
        return replace(entry, said=said) if said else entry
    from tessaron.sources.tables.tabular_files import table_of

    table = table_of(entry.name, entry.open, documents)
    said = "; ".join(filter(None, (said, table.said)))
    return replace(entry, size=None, opener=table.open, said=said, after=table.after)


def _table_in(name: str, ending: str, opened: Open) -> ByteInput:
    """Return a table among bytes without a name that says what they are."""
    from tessaron.sources.tables.tabular_files import table_of

    table = table_of(f"{name}{ending}", opened)
    return ByteInput(name, opener=table.open, said=table.said, title="records", after=table.after)


def _inputs_of_file(stream: Any) -> Iterator[ByteInput]:
    if isinstance(stream, io.TextIOBase):
        raise UsageError("expected a file opened in binary mode, got a text file; open it with mode 'rb'")
    given = getattr(stream, "name", None)
    name = given if isinstance(given, str) else "<stream>"
    head = _first_bytes(stream)
    whole = cast("BinaryIO", Joined(head, stream))
    if ending := _ending_of(head):
        yield _table_in(name, ending, kept_bytes(whole))
    elif begins_archive(name, head):
        yield from _of_archive(name, kept_bytes(whole), {})
    else:
        yield ByteInput(name, stream=whole)


_DOCUMENT_BEGINS = b'{[<" \t\r\n\xef\xfe\xff\x00\x1e-0123456789tfn'
"""The first bytes of documents: then nothing more has to be there before they are read."""
_WORD_BYTES = 3


def _first_bytes(stream: BinaryIO) -> bytes:
    """Return the first bytes of a stream, as many as tell an archive or a table."""
    head = stream.read(1)
    if head in (b"t", b"f", b"n"):
        # A word of JSON, or the name of a column.
        head += stream.read(_WORD_BYTES)
        if head.startswith((b"true", b"fals", b"null")):
            return head
    elif head == b'"' and hasattr(stream, "readline"):
        return head + stream.readline()
    while head and (len(head) > 1 or head[0] not in _DOCUMENT_BEGINS) and len(head) < HEAD_BYTES:
        more = stream.read(HEAD_BYTES - len(head))
        if not more:
            break
        head += more
    return head


def _inputs_of_path(path: Path, known: _Members) -> Iterator[ByteInput]:
    if not _is_there(path) and any(letter in str(path) for letter in "*?["):
        found = sorted((Path(name) for name in glob.glob(str(path), recursive=True)), key=_in_natural_order)
        if not found:
            raise SourceError(f"{path}: no file matches this pattern")
        for each in found:
            yield from _inputs_of_path(each, known)
    elif _is_there(path) and path.is_dir():
        yield from _inputs_of_folder(path, known)
    elif not _is_there(path) and (archive := _archive_above(path)) is not None:
        yield from _of_archive(
            str(archive), _input_of_path(archive).open, known, path.relative_to(archive).as_posix()
        )
    else:
        entry = _input_of_path(path)
        if path.name.lower().endswith(ARCHIVE_ENDINGS) and is_archive(str(path), entry.open):
            yield from _of_archive(str(path), entry.open, known)
        else:
            yield _with_rows(entry)


def _inputs_of_folder(folder: Path, known: _Members) -> Iterator[ByteInput]:
    """Yield the documents in a folder and in those below it; archives are as folders."""
    found: list[str] = []
    for root, folders, names in os.walk(folder):
        folders[:] = [name for name in folders if not name.startswith(".")]
        found += [os.path.join(root, name) for name in names if not name.startswith(".")]
    lowered = [path.lower() for path in found]
    archives = [path for path, lower in zip(found, lowered, strict=True) if lower.endswith(ARCHIVE_ENDINGS)]
    if not archives or any(lower.endswith(JSON_ENDINGS + XML_ENDINGS) for lower in lowered):
        above = len(os.path.join(folder, ""))
        documents, said = choose_documents(folder, found, lambda path: _slashed(path[above:]), "folder")
        for number, path in enumerate(documents):
            yield _with_rows(_input_of_path(path), "" if number else said)
    for archive in sorted(archives, key=_in_natural_order):
        yield from _inputs_of_path(Path(archive), known)


def _in_natural_order(path: str | Path) -> list[tuple[tuple[int, int | str], ...]]:
    return natural_order(_slashed(str(path)))


def _slashed(path: str) -> str:
    return path if os.sep == "/" else path.replace(os.sep, "/")


def _archive_above(path: Path) -> Path | None:
    """Return the archive in which a path leads to a member, if one of the names on its way is a file."""
    return next((above for above in path.parents if _is_there(above) and above.is_file()), None)


def _input_of_path(path: Path | str) -> ByteInput:
    # As text: to make a path of each of very many names takes longer than to ask for its size.
    name = str(path)
    try:
        found = os.stat(name)
    except OSError as error:
        shown = clipped(name)
        if isinstance(error, FileNotFoundError):
            raise SourceError(
                f"{shown}: cannot be read: {error.strerror}; expected the path of files, or JSON or XML "
                "itself; check the name"
            ) from error
        raise SourceError(f"{shown}: cannot be read: {error.strerror}") from error
    return ByteInput(name, found.st_size or None, path=name, modified=found.st_mtime_ns)
