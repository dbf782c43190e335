"""How SQLAlchemy is told of texts that may be long."""

from __future__ import annotations

from typing import Any


def long_text() -> Any:
    """Return the type of texts of any length."""
    from sqlalchemy import Text
    from sqlalchemy.dialects.mysql import LONGTEXT

    # What MySQL calls a text has 64 KB.
    return Text().with_variant(LONGTEXT(), "mysql", "mariadb")
