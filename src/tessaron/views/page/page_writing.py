"""A page as the text of one HTML file, which needs nothing else and asks nobody."""

from __future__ import annotations

import base64
import hashlib
import json
import zlib
from functools import cache
from importlib.resources import files
from pathlib import Path
from typing import TYPE_CHECKING, Any

from tessaron._version import __version__
from tessaron.core.base.errors import TargetError
from tessaron.sinks.syncing import write_file
from tessaron.views.page.page_model import Page

if TYPE_CHECKING:
    from jinja2 import Template

_PACKED_FROM = 200_000
"""More data than so many letters is packed."""
_ESCAPES = {"<": "\\u003c", ">": "\\u003e", "&": "\\u0026", "\u2028": "\\u2028", "\u2029": "\\u2029"}
"""What could end the element that holds the data, or mean something in it."""


def write_page(page: Page, path: str | Path) -> None:
    """Write a page into a file, which appears whole.

    Raises:
        TargetError: When that cannot be done.
    """
    try:
        write_file(Path(path), page_text(page))
    except OSError as error:
        raise TargetError(f"{path}: the page cannot be written: {error.strerror}") from error


def page_text(page: Page, live: dict[str, Any] | None = None) -> str:
    """Return the text of a page.

    Args:
        page: The page.
        live: What the page needs to know of the server it is from; None for a file.
    """
    script = _part("page.js") + ("" if live is None else _part("live.js"))
    style = _part("page.css") + ("" if live is None else _part("live.css"))
    policy = [
        "default-src 'none'", f"script-src {_digest(script)}", f"style-src {_digest(style)}", "img-src data:",
        "base-uri 'none'", "form-action 'none'",
    ]  # fmt: skip
    if live is not None:
        policy.append("connect-src 'self'")
    data = {**page.structure.data, "command": page.command, "live": live}
    text = _as_script(data)
    is_packed = len(text) > _PACKED_FROM
    if is_packed:
        text = base64.b64encode(_deflated(text.encode())).decode()
    return _template().render(
        page=page, script=script, style=style, policy="; ".join(policy), data=text, is_packed=is_packed,
        is_live=live is not None, version=__version__,
    )  # fmt: skip


def _as_script(data: dict[str, Any]) -> str:
    """Return data as JSON that can stand inside of an element of HTML."""
    text = json.dumps(data, ensure_ascii=False, separators=(",", ":"), default=str)
    for letter, escape in _ESCAPES.items():
        text = text.replace(letter, escape)
    return text.encode("utf-8", "backslashreplace").decode()


def _deflated(data: bytes) -> bytes:
    """Return bytes packed as RFC 1951 has it."""
    packer = zlib.compressobj(9, zlib.DEFLATED, -zlib.MAX_WBITS)
    return packer.compress(data) + packer.flush()


def _digest(text: str) -> str:
    """Return the source expression of Content Security Policy (level 3) that allows this text only."""
    return f"'sha256-{base64.b64encode(hashlib.sha256(text.encode()).digest()).decode()}'"


def _part(name: str) -> str:
    return files("tessaron.views.page").joinpath(name).read_text("utf-8")


@cache
def _template() -> Template:
    from jinja2 import Environment, StrictUndefined

    made = Environment(autoescape=True, undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True)
    return made.from_string(_part("page.html"))
