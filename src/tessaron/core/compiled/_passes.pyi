from typing import Any

class Learner:
    def __init__(self, member_limit: int, /) -> None: ...
    def learn(
        self,
        kinds: bytes,
        names: bytes,
        parents: bytes,
        values: bytes,
        data: bytes,
        step_sizes: bytes,
        step_data: bytes,
        /,
    ) -> bytes: ...
    def add_lossy(self, classes: bytes, counts: bytes, /) -> None: ...
    def seed(self, path: tuple[str | bool | None, ...], is_dictionary: bool, /) -> None: ...
    def export(self) -> tuple[list[tuple[Any, ...]], list[tuple[int, str | bool | None, int]]]: ...

def emit(
    form: list[tuple[Any, ...]],
    tape: tuple[bytes, ...],
    wanted: list[tuple[Any, ...]],
    /,
) -> dict[str, Any]: ...
def digest(tape: tuple[bytes, ...], exact: bool, /) -> bytes: ...
