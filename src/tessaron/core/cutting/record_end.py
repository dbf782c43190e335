"""Finding where a record of XML ends: only tags of its own name count, and marks that may hold anything."""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import lru_cache

from tessaron.core.markup.tokens import CLOSINGS

_BLANK = b" \t\r\n"


@dataclass(slots=True)
class OpenRecord:
    """A record that is open: its tag, where its end is looked for next, and how deep it stands in others."""

    tag: bytes
    scan_at: int
    depth: int = 1


@lru_cache(maxsize=64)
def record_patterns(tag: bytes) -> tuple[re.Pattern[bytes], re.Pattern[bytes]]:
    """Return what finds a record right behind another, and what finds the marks that count inside one."""
    name = re.escape(tag)
    return (
        re.compile(rb"[ \t\r\n]*<%b(?=[\s/>])" % name),
        re.compile(
            rb"""<(?:/(?P<end>%b)\s*>|(?P<start>%b)(?=[\s/>])(?:[^<>"'/]|"[^"<]*"|'[^'<]*'|/(?!>))*(?P<empty>/?)>"""
            rb"""|(?P<comment>!--)|(?P<cdata>!\[CDATA\[)|(?P<instruction>\?))""" % (name, name)
        ),
    )


def record_end(data: bytes, record: OpenRecord, inside: re.Pattern[bytes]) -> int:
    """Return where the record ends, or -1; then `record` says where to look on."""
    if record.depth == 0:
        return record.scan_at
    closing, nested = b"</" + record.tag, b"<" + record.tag
    while record.depth == 1:
        end = data.find(closing, record.scan_at)
        if end < 0:
            return -1
        mark = _next_mark(data, record.scan_at, end)
        if data.find(nested, record.scan_at, mark) >= 0:
            break
        if mark == end:
            stop = data.find(b">", end)
            if stop >= 0 and not data[end + len(closing) : stop].strip(_BLANK):
                return stop + 1
            break
        stop = _end_of_mark(data, mark)
        if stop < 0:
            record.scan_at = mark
            return -1
        record.scan_at = stop
    return _end_among_marks(data, record, inside)


def _next_mark(data: bytes, start: int, stop: int) -> int:
    """Return where the next comment, CDATA section or instruction begins; `stop` if none does before."""
    found = data.find(b"<!", start, stop)
    stop = stop if found < 0 else found
    found = data.find(b"<?", start, stop)
    return stop if found < 0 else found


def _end_of_mark(data: bytes, mark: int) -> int:
    """Return where a comment, CDATA section or instruction ends; -1 if it goes on in the next block."""
    if data.startswith(b"<?", mark):
        kind = "instruction"
    else:
        kind = "cdata" if data.startswith(b"<![", mark) else "comment"
    stop = data.find(CLOSINGS[kind], mark + 2)
    return -1 if stop < 0 else stop + len(CLOSINGS[kind])


def _end_among_marks(data: bytes, record: OpenRecord, inside: re.Pattern[bytes]) -> int:
    while True:
        found = inside.search(data, record.scan_at)
        if found is None:
            # A mark may begin in the last bytes and end in the next block.
            last = data.rfind(b"<", record.scan_at)
            record.scan_at = len(data) if last < 0 else last
            return -1
        kind = found.lastgroup
        if kind in CLOSINGS:
            stop = data.find(CLOSINGS[kind], found.end())
            if stop < 0:
                record.scan_at = found.start()
                return -1
            record.scan_at = stop + len(CLOSINGS[kind])
            continue
        record.scan_at = found.end()
        if found["end"]:
            record.depth -= 1
            if record.depth == 0:
                return found.end()
        elif not found["empty"]:
            record.depth += 1
