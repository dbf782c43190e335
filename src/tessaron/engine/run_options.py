"""The options that the functions of the package take by name."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Literal, TypedDict

from tessaron.core.base.arrays import ArrowRows
from tessaron.core.kernel.contract import WhiteSpace


class RunOptions(TypedDict, total=False):
    """What may be said about a run; what each means, and what it is else, stands at `Options`.

    `Options.format` is not among them: a layout says it.
    """

    name: str | None
    records: str | None
    envelope: bool
    duplicate_keys: Literal["last", "reject"]
    dictionaries: Sequence[str]
    not_dictionaries: Sequence[str]
    keys: Literal["sequence", "digest"]
    key: Sequence[str]
    origin: bool
    first: int | None
    workers: int | None
    memory: int | None
    depth_limit: int
    chunk_bytes: int
    kernel: str
    only: Sequence[str]
    without: Sequence[str]
    flat: str | None
    times: Sequence[str]
    with_empty: bool
    names: Literal["path", "leaf"]
    strict: bool
    white_space: WhiteSpace
    namespaces: Mapping[str, str]
    xsd: str | None
    exact: bool
    undivided: bool
    shared: Sequence[str]
    not_shared: bool
    most_columns: int
    lookups: bool
    stop_after: int | None
    stop_at_share: float | None
    keep_raw_rejects: bool
    skip_unknown: bool
    on_rows: Callable[[Mapping[str, ArrowRows]], None] | None
