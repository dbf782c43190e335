"""A hook of the site: links to files beside the docs lead to the files of the repository, which the site has not."""

from __future__ import annotations

import re
from typing import Any

_OUTSIDE = re.compile(r"\[([^\]]*)\]\(\.\./[^)]*\)")


def on_page_markdown(markdown: str, **_: Any) -> str:
    """Return a page whose links out of the docs are plain text."""
    return _OUTSIDE.sub(r"\1", markdown)
