"""A tabular file as people say it, where they name what holds documents."""

from __future__ import annotations

import os
from collections.abc import Sequence
from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class TableSource:
    """A file of CSV, Parquet or Arrow as a source.

    Attributes:
        path: Where it is.
        documents: The columns that hold documents of JSON or XML; else they are found.
    """

    path: str | os.PathLike[str]
    documents: Sequence[str] = ()
