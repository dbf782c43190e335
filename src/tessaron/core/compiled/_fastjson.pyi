from collections.abc import Callable
from typing import Any

def parse(
    data: bytes,
    separator: int,
    continues: int,
    depth_limit: int,
    selection: Callable[[int, str | bool | None], tuple[int, int]] | None = None,
    tells_halves: bool = False,
    /,
) -> dict[str, Any] | None: ...
def parse_xml(
    data: bytes,
    spaces: tuple[tuple[str, str], ...],
    declared: tuple[tuple[str, str], ...],
    entities: tuple[tuple[str, str, str], ...],
    runs: tuple[tuple[int, tuple[tuple[str, str], ...]], ...],
    cleans: int,
    keeps_space: int,
    keeps_order: int,
    /,
) -> dict[str, Any] | None: ...
def scan(
    block: bytes | memoryview, in_text: int, escaping: int, depth: int, at_depth: int, on_comma: int, /
) -> tuple[int, int, int, int, int]: ...
def cells(data: bytes | memoryview, offsets: Any, /) -> bytes: ...
