"""Documents out of the first bytes of a source, also when these end in the middle of one."""

from __future__ import annotations

import json
import re
from typing import Any

from tessaron.core.base.parsed_values import Parsed

MOST_DOCUMENTS = 1_000
_SPACE = re.compile(r"[ \t\r\n\x1e]*")
_TOKEN = re.compile(r'"(?:[^"\\]|\\.)*"|[{}\[\],]|"', re.DOTALL)


def sample_documents(head: bytes) -> tuple[list[Parsed], bool]:
    """Return the documents that begin `head`, at most `MOST_DOCUMENTS`, and whether they are all of them.

    The last one may be a part of what it is: all that stood in it before the bytes ended. What is no JSON
    ends the list.
    """
    text = head.decode("utf-8", "replace")
    documents: list[Any] = []
    decoder = json.JSONDecoder()
    at = _past_space(text, 0)
    while at < len(text) and len(documents) < MOST_DOCUMENTS:
        try:
            document, at = decoder.raw_decode(text, at)
        except (ValueError, RecursionError):
            part = _closed(text[at:])
            return (documents if part is None else [*documents, part]), False
        documents.append(document)
        at = _past_space(text, at)
    return documents, at >= len(text)


def _past_space(text: str, at: int) -> int:
    found = _SPACE.match(text, at)
    assert found is not None
    return found.end()


def _closed(text: str) -> Parsed:
    """Return the document that begins `text`, cut behind its last whole value and closed, or None."""
    stack: list[str] = []
    cut: tuple[int, str] | None = None
    for token in _TOKEN.finditer(text):
        found = token.group()
        if found in ("{", "["):
            stack.append("}" if found == "{" else "]")
            cut = (token.end(), "".join(reversed(stack)))
        elif found in ("}", "]"):
            if not stack or stack.pop() != found:
                break
            cut = (token.end(), "".join(reversed(stack)))
        elif found == "," and stack:
            cut = (token.start(), "".join(reversed(stack)))
        elif found == '"':
            break
    if cut is None:
        return None
    try:
        return json.loads(text[: cut[0]] + cut[1])
    except (ValueError, RecursionError):
        return None
