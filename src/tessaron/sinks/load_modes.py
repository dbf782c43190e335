"""What becomes of tables that are there when others are loaded."""

from __future__ import annotations

from typing import Literal, get_args

LoadMode = Literal["create", "append", "replace", "merge"]
MODES: tuple[LoadMode, ...] = get_args(LoadMode)
