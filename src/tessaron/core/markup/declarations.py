"""What a document type declares and is safe to use: entities with their text, and default attributes.

Nothing is fetched: an external subset is passed over, and so are external entities. Parameter entities, with
which declarations can be put together, are refused where they are used.
"""

from __future__ import annotations

import re
from dataclasses import dataclass

_PART = re.compile(
    rb"""(?P<space>[ \t\r\n]+)|<!--(?P<comment>.*?)-->|<\?(?P<instruction>.*?)\?>
        |(?P<parameter>%[^\s;%]+;)|(?P<closing>\][ \t\r\n]*>)
        |(?P<declaration><!(?P<kind>[A-Z]+)(?:[^<>"']|"[^"]*"|'[^']*')*>)""",
    re.VERBOSE | re.DOTALL,
)
_HEAD = re.compile(rb"""<!DOCTYPE(?:[^<>"'\[\]]|"[^"]*"|'[^']*')*(?P<end>[\[>])""")
_USABLE_ENTITY = re.compile(rb"""<!ENTITY\s+[^\s%"']+\s+["']""")


@dataclass(frozen=True, slots=True)
class DocumentType:
    """A document type that was read.

    Attributes:
        end: Where it ends in the bytes.
        declarations: What of it is used, as it is spelled.
        refused: Why it is not read; empty if it is.
    """

    end: int
    declarations: bytes = b""
    refused: str = ""


def usable_declarations(data: bytes, start: int) -> DocumentType | None:
    """Return the document type that begins at `start`; None if it is not all there yet."""
    head = _HEAD.match(data, start)
    if head is None:
        return None
    if head["end"] == b">":
        return DocumentType(head.end())
    kept: list[bytes] = []
    at = head.end()
    while True:
        part = _PART.match(data, at)
        if part is None:
            return None
        at = part.end()
        if part["closing"]:
            return DocumentType(at, b"".join(kept))
        if part["parameter"]:
            name = part["parameter"].decode("utf-8", "replace")
            return DocumentType(
                at, refused=f"the parameter entity {name} is not read, as it may stand for anything; "
                "write what it stands for in its place",
            )  # fmt: skip
        if part["kind"] == b"ATTLIST" or (
            part["kind"] == b"ENTITY" and _USABLE_ENTITY.match(part["declaration"])
        ):
            kept.append(part["declaration"])
