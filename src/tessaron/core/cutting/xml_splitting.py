"""Cutting a stream of XML into whole records and what stands around them, without parsing the records.

Between the records every tag is looked at; inside a record only for its end. What is in it is the kernel's
business, and so is most of what can be wrong.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import NoReturn

from tessaron.core.base.errors import Code
from tessaron.core.base.faults import Fault
from tessaron.core.base.visible import in_quotes
from tessaron.core.cutting.enclosing import EnclosingElements, OpenElement, numbers_of
from tessaron.core.cutting.json_splitting import SplitError
from tessaron.core.cutting.record_end import OpenRecord, record_end, record_patterns
from tessaron.core.cutting.xml_chunks import Context, Piece
from tessaron.core.cutting.xml_skeletons import Skeleton, SkeletonText
from tessaron.core.markup.declarations import usable_declarations
from tessaron.core.markup.namespaces import Prefixes
from tessaron.core.markup.record_path import Name, RecordPath
from tessaron.core.markup.tokens import (
    CLOSINGS,
    TOKEN,
    declarations_in,
)

MOST_TAG_BYTES = 32 * 1024 * 1024
"""So many bytes, at most, has a tag, a comment or a document type."""
_FEW_OTHERS = 20
"""So many names are remembered of what stands where the way to the records went no further."""
_BLANK = b" \t\r\n"


class XmlSplitter:
    """Takes blocks of bytes of one source; gives its records, and its documents without them.

    Args:
        path: Where the records stand.
        prefixes: Learns the namespaces of the documents.
        byte_offset: Bytes of the source before the first block.
        document: Documents before those of this source.
        wants_above: Whether runs are to come with what is known of the elements above them.
        keeps_order: Whether documents say where records stood in them among others.
        keeps_beside: Whether comments and instructions beside documents are wanted.
        enclosing: Numbers the elements on the way to the records, over all sources.

    Attributes:
        documents: Documents that began.
        records: Records so far.
        nearest: The longest part of the way to the records that some document had, as names.
        others: Names that stood where the way went no further.
        around_counts: Comments and instructions outside of the records, by their node test.
        beside: Where that is wanted, those before the first document and those behind it, as written.
    """

    def __init__(
        self,
        path: RecordPath,
        prefixes: Prefixes,
        byte_offset: int = 0,
        document: int = 0,
        wants_above: bool = False,
        keeps_order: bool = False,
        keeps_beside: bool = False,
        enclosing: EnclosingElements | None = None,
    ):
        self._path = path
        self._enclosing = enclosing or EnclosingElements(path)
        self._wants_above = wants_above
        self._keeps_order = keeps_order
        self._keeps_beside = keeps_beside
        self._prefixes = prefixes
        self._data = b""
        self._waiting: list[bytes] = []
        self._waiting_bytes = 0
        self._at = 0
        self._base = byte_offset
        self._line, self._counted, self._before_line = 1, 0, 0
        self._stack: list[OpenElement] = []
        self._record: OpenRecord | None = None
        self._run: list[int] = []
        self._ordinal = 0
        self._records_before = 0
        self._run_start = 0
        self._skeleton = SkeletonText(byte_offset)
        self._declared = b""
        self._document_records = 0
        self._before = document
        self.documents = 0
        self.records = 0
        self.nearest: tuple[Name, ...] = ()
        self.others: dict[Name, None] = {}
        self.beside = (bytearray(), bytearray())
        self.around_counts = {"comment()": 0, "processing-instruction()": 0}

    def feed(self, block: bytes) -> Iterator[Piece | Skeleton]:
        """Yield the runs of whole records that end in `block`, and the documents that do.

        Raises:
            SplitError: When the tags around the records do not fit together.
        """
        self._waiting.append(block)
        self._waiting_bytes += len(block)
        if self._waiting_bytes < len(self._data) - self._at:
            # A record longer than a block: to look at it again at twice the size costs least.
            return
        try:
            yield from self._read()
        except SplitError:
            yield from self.break_off()
            raise

    def finish(self) -> Iterator[Piece | Skeleton]:
        """Yield what is left at the end of the source.

        Raises:
            SplitError: When the source ends inside a document.
        """
        try:
            yield from self._read()
            yield from self._check_end()
        except SplitError:
            yield from self.break_off()
            raise

    def _check_end(self) -> Iterator[Piece]:
        rest = self._data[self._at :]
        if self._record is not None:
            yield from self._close_run()
            line = self._line_at(self._run_start)
            reason = f"the source ends inside the record that begins in line {line:,}; fetch the file again"
            self._fail(Code.TRUNCATED, reason, len(self._data))
        if self._stack:
            tag = self._stack[-1].tag.decode("utf-8", "replace")
            reason = f"the source ends inside <{tag}>; expected </{tag}>; fetch the file again"
            self._fail(Code.TRUNCATED, reason, len(self._data))
        self._check_blank(rest)
        if not self.documents:
            self._fail(Code.EMPTY, "the source is empty; expected an XML document")

    def break_off(self) -> Iterator[Piece | Skeleton]:
        """Yield the whole records and the document, as far as it goes, before something that is wrong."""
        if self._run and self._record is None:
            yield from self._close_run()
        if self._stack and self._skeleton.size:
            if self._record is not None:
                self._mark_records()
            while self._stack:
                opened = self._stack.pop()
                self._skeleton.add(b"</" + opened.tag + b">")
                self._leave(opened, len(self._stack))
            yield self._close_document()

    # -- the text that is at hand ---------------------------------------------------------------------

    def _read(self) -> Iterator[Piece | Skeleton]:
        kept = self._at if self._record is None else self._run_start
        self._line = self._line_at(kept)
        self._before_line = self._column_at(kept) - 1
        self._data = b"".join((self._data[kept:], *self._waiting))
        self._waiting, self._waiting_bytes = [], 0
        self._base += kept
        self._counted = 0
        self._at -= kept
        if self._record is not None:
            self._record.scan_at -= kept
            self._run_start = 0
        while self._read_records() if self._record is not None else self._read_mark():
            if self._record is None and self._run:
                yield from self._close_run()
            if self._record is None and not self._stack:
                if self._skeleton.size:
                    yield self._close_document()
                elif self._document_records:
                    self._declared, self._document_records = b"", 0
        if self._record is not None and len(self._run) > 1:
            yield from self._close_run()

    def _line_at(self, at: int) -> int:
        """Return the line of a place in the text; places are asked for in rising order."""
        if at < self._counted:
            return self._line - self._data.count(b"\n", at, self._counted)
        self._line += self._data.count(b"\n", self._counted, at)
        self._counted = at
        return self._line

    def _column_at(self, at: int) -> int:
        """Return the column of a place in the text, from 1, in bytes."""
        last = self._data.rfind(b"\n", 0, at)
        return at - last if last >= 0 else self._before_line + at + 1

    def _fail(self, code: Code, reason: str, at: int | None = None) -> NoReturn:
        at = self._at if at is None else at
        fault = Fault(code, self._base + at, reason, line=self._line_at(at), column=self._column_at(at))
        raise SplitError(fault)

    # -- records --------------------------------------------------------------------------------------

    def _read_records(self) -> bool:
        """Read on to the end of the record and those right behind it; say whether anything was found."""
        data = self._data
        record = self._record
        assert record is not None
        follows, inside = record_patterns(record.tag)
        found = False
        while True:
            end = record_end(data, record, inside)
            if end < 0:
                return found
            found = True
            self._at = end
            self.records += 1
            self._document_records += 1
            next_one = follows.match(data, end) if self._stack else None
            if next_one is None:
                self._end_region()
                return True
            start = next_one.end() - len(record.tag) - 1
            opening = TOKEN.match(data, start)
            if opening is None or b"xmlns" in opening["attributes"]:
                # The tag goes on in the next block, or may mean another name than the one before it.
                self._end_region()
                return True
            self._run.append(start - self._run_start)
            self._ordinal += 1
            record.scan_at, record.depth = opening.end(), 1
            if opening["empty"]:
                record.depth = 0

    def _end_region(self) -> None:
        """Go back to looking at every tag; the records read so far are counted where they stood."""
        if self._stack and self._record is not None:
            self._stack[-1].counts[self._record.tag] = self._ordinal
            self._mark_records()
        self._record = None

    def _mark_records(self) -> None:
        """Leave a mark where records stood in a document."""
        if self._keeps_order:
            self._skeleton.mark_records(self.records - self._records_before)

    def _open_record(self, found: re.Match[bytes]) -> None:
        self._run_start, self._run = found.start(), [0]
        self._records_before = self.records
        if self._stack:
            self._stack[-1].has_records = True
        self._ordinal = self._count_tag(found["start"])
        self._record = OpenRecord(found["start"], found.end(), 0 if found["empty"] else 1)

    def _count_tag(self, tag: bytes) -> int:
        """Count an element where it stands; return its position among those of its tag."""
        if not self._stack:
            return 1
        counts = self._stack[-1].counts
        counts[tag] = counts.get(tag, 0) + 1
        return counts[tag]

    def _close_run(self) -> Iterator[Piece]:
        """Yield the whole records of the run; one that is open begins the next."""
        starts = self._run if self._record is None else self._run[:-1]
        stop = self._at if self._record is None else self._run_start + self._run[-1]
        if starts:
            data = self._data[self._run_start : stop]
            for prefix, namespace in declarations_in(data):
                self._prefixes.learn(prefix, namespace)
            yield Piece(
                data,
                starts,
                self._base + self._run_start,
                self._line_at(self._run_start),
                self._before + self.documents,
                self.records - len(starts) + 1,
                self._context(),
                self._values_above(),
                "".join(each.step for each in self._stack),
                self._ordinal - len(starts) + 1 - (self._record is not None),
                numbers_of([each.number for each in self._stack]) if self._enclosing.are_counted else (),
            )
        self._run, self._run_start = ([], stop) if self._record is None else ([0], stop)

    def _values_above(self) -> tuple[tuple[str, str], ...]:
        """Return what is known of the elements above the records, by the path from the record."""
        if not self._wants_above:
            return ()
        return tuple(
            ("../" * up + name, value)
            for up, opened in enumerate(reversed(self._stack), 1)
            for name, value in opened.values.items()
        )

    def _context(self) -> Context:
        if not self._stack:
            return Context((), self._declared, False)
        last = self._stack[-1]
        return Context(tuple(last.namespaces.items()), self._declared, last.keeps_space)

    # -- what stands around the records ---------------------------------------------------------------

    def _read_mark(self) -> bool:
        """Read up to the end of the next tag or other mark; say whether there was a whole one."""
        data, at = self._data, self._at
        start = data.find(b"<", at)
        if start < 0:
            self._pass(len(data))
            return False
        if self._wants_above and self._stack and self._stack[-1].text is not None:
            self._stack[-1].text += data[at:start].decode("utf-8", "replace")
        self._pass(start)
        found = TOKEN.match(data, start)
        if found is None:
            if len(data) - start > MOST_TAG_BYTES:
                self._fail(
                    Code.LIMIT, f"a tag has more than {MOST_TAG_BYTES:,} bytes; this is no XML to be read"
                )
            return False
        match found.lastgroup:
            case "start" | "attributes" | "empty":
                self._read_start(found)
            case "end":
                self._read_end(found)
            case "doctype":
                return self._read_doctype(start)
            case kind:
                return self._read_other(str(kind), start, found.end())
        return True

    def _read_other(self, kind: str, start: int, inside: int) -> bool:
        stop = self._data.find(CLOSINGS[kind], inside)
        if stop < 0:
            if len(self._data) - start > MOST_TAG_BYTES:
                self._fail(Code.LIMIT, f"a {kind} has more than {MOST_TAG_BYTES:,} bytes")
            return False
        stop += len(CLOSINGS[kind])
        if kind == "cdata":
            self._pass(stop)
            return True
        is_declaration = kind == "instruction" and self._data[inside : inside + 4].rstrip(_BLANK) == b"xml"
        if not is_declaration:
            if self._keeps_beside and not self._stack:
                self.beside[self.documents > 0].extend(self._data[start:stop])
            self.around_counts["comment()" if kind == "comment" else "processing-instruction()"] += 1
        self._at = stop
        return True

    def _read_doctype(self, start: int) -> bool:
        found = usable_declarations(self._data, start)
        if found is None:
            if len(self._data) - start > MOST_TAG_BYTES:
                self._fail(Code.LIMIT, f"a document type has more than {MOST_TAG_BYTES:,} bytes")
            return False
        if found.refused:
            self._fail(Code.ENTITY, found.refused, start)
        self._declared = found.declarations
        self._at = found.end
        return True

    def _read_start(self, found: re.Match[bytes]) -> None:
        opened = self._opened(found)
        if not self._stack:
            self.documents += 1
            self._document_records = 0
            self._skeleton.begin(self._base + found.start(), self._line_at(found.start()))
        depth = len(self._stack)
        is_above_on_way = not self._stack or self._stack[-1].is_on_way
        opened.is_on_way = is_above_on_way and self._path.goes_on(depth, opened.name)
        if opened.is_on_way and depth == len(self._path.tests) - 1:
            self._open_record(found)
            return
        position = self._count_tag(found["start"])
        opened.step = "/" + opened.name.shown(self._prefixes) + (f"[{position}]" if position > 1 else "")
        if is_above_on_way:
            self._note(opened)
        if self._enclosing.are_counted and opened.is_on_way:
            opened.number = self._enclosing.open(depth)
        self._pass(found.end())
        if self._wants_above:
            opened.keep_attributes(found["attributes"], self._prefixes)
            if self._stack:
                self._stack[-1].text = None
        if not found["empty"]:
            opened.content_at = self._skeleton.size
            self._stack.append(opened)
        else:
            self._leave(opened, depth)

    def _leave(self, opened: OpenElement, depth: int) -> None:
        """Take in that an element ends which was on the way to the records, if it was."""
        if opened.number:
            self._enclosing.close(depth)

    def _opened(self, found: re.Match[bytes]) -> OpenElement:
        made = OpenElement.of(found, self._stack[-1] if self._stack else None, self._prefixes)
        if isinstance(made, str):
            tag = found["start"].decode("utf-8", "replace")
            reason = f"the prefix {in_quotes(made)} of <{tag}> is not declared"
            self._fail(Code.NAMESPACE, reason, found.start())
        return made

    def _read_end(self, found: re.Match[bytes]) -> None:
        tag = found["end"].decode("utf-8", "replace")
        if not self._stack:
            self._fail(Code.SYNTAX, f"expected an element, found </{tag}>", found.start())
        if self._stack[-1].tag != found["end"]:
            wanted = self._stack[-1].tag.decode("utf-8", "replace")
            self._fail(Code.SYNTAX, f"expected </{wanted}>, found </{tag}>", found.start())
        if self._wants_above and len(self._stack) > 1:
            self._stack[-2].keep(self._stack[-1], self._prefixes)
        if self._stack[-1].has_records:
            self._skeleton.leave_out_blanks(self._stack[-1].content_at)
        self._pass(found.end())
        self._leave(self._stack.pop(), len(self._stack))

    def _note(self, opened: OpenElement) -> None:
        """Remember how far the way to the records led, to say so if it led nowhere."""
        way = tuple(each.name for each in self._stack)
        if opened.is_on_way:
            if len(way) >= len(self.nearest):
                self.nearest, self.others = (*way, opened.name), {}
        elif way == self.nearest and len(self.others) < _FEW_OTHERS:
            self.others[opened.name] = None

    def _pass(self, stop: int) -> None:
        """Move on, keeping what is passed for the document without its records."""
        if self._stack or self._data[self._at : self._at + 1] == b"<":
            self._skeleton.add(self._data[self._at : stop])
        else:
            self._check_blank(self._data[self._at : stop])
        self._at = stop

    def _check_blank(self, data: bytes) -> None:
        """Check that nothing stands outside of the documents, in what comes next."""
        rest = data.lstrip(_BLANK)
        if rest:
            self._fail(
                Code.SYNTAX, f"expected an element, found {_shown(rest)}", self._at + len(data) - len(rest)
            )

    def _close_document(self) -> Skeleton:
        made = Skeleton(
            self._skeleton.taken(), self._skeleton.byte_offset, self._skeleton.line,
            self._before + self.documents, self._document_records,
            Context((), self._declared), self._enclosing.outline(),
        )  # fmt: skip
        self._declared = b""
        return made


def _shown(data: bytes) -> str:
    return repr(data[:20].decode("utf-8", "replace"))
