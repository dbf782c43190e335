"""Pages that are known beforehand, asked for a few at a time."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import contextmanager

from tessaron.sources.web.answers import Answer
from tessaron.sources.web.session import Asked


class Foreseen:
    """Answers what is asked, and asks for what will be asked next meanwhile.

    Args:
        ask: Returns the answer to one request.
        coming: What will be asked, in order, as far as that is known.
        pool: Where it is asked.
        at_once: So many requests at most are under way or wait to be taken.
    """

    def __init__(
        self, ask: Callable[[Asked], Answer], coming: Iterator[Asked], pool: ThreadPoolExecutor, at_once: int
    ):
        self._ask, self._coming, self._pool, self._at_once = ask, coming, pool, at_once
        self._waiting: deque[tuple[Asked, Future[Answer]]] = deque()

    def answer(self, asked: Asked) -> Answer:
        """Return the answer to a request, which was foreseen or not.

        Raises:
            SourceError: When there is none.
        """
        self._fill()
        if self._waiting and self._waiting[0][0] == asked:
            answer = self._waiting.popleft()[1].result()
            self._fill()
            return answer
        return self._ask(asked)

    def cancel(self) -> None:
        """Take back what was not begun."""
        for _, future in self._waiting:
            future.cancel()

    def _fill(self) -> None:
        while len(self._waiting) < self._at_once:
            asked = next(self._coming, None)
            if asked is None:
                return
            self._waiting.append((asked, self._pool.submit(self._ask, asked)))


@contextmanager
def foreseen(ask: Callable[[Asked], Answer], coming: Iterator[Asked], at_once: int) -> Iterator[Foreseen]:
    """Yield what answers requests, the foreseen ones at once; nothing is under way after."""
    with ThreadPoolExecutor(at_once, "tessaron-pages") as pool:
        pages = Foreseen(ask, coming, pool, at_once)
        try:
            yield pages
        finally:
            pages.cancel()
