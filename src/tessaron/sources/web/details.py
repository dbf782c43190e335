"""One more request for each record of an answer: a few at a time, each put where it belongs."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import Executor, Future

from tessaron.core.base.errors import SourceError
from tessaron.sources.web.answer_documents import Document, JsonDocument, document_of, part_at
from tessaron.sources.web.answers import Answer, NotFoundError
from tessaron.sources.web.feed_model import EachPart
from tessaron.sources.web.secret_values import shown
from tessaron.sources.web.session import Asked


class Details:
    """Asks about what records name.

    Args:
        part: What is asked for each.
        ask: Returns the answer to one request.
        pool: Where it is asked.
    """

    def __init__(self, part: EachPart, ask: Callable[[Asked], Answer], pool: Executor):
        self._part, self._ask, self._pool = part, ask, pool

    def put_into(self, document: Document, records: str | None) -> bytes:
        """Return a document whose records have what was answered about each.

        Raises:
            SourceError: When one is not answered, or not with a document.
            UsageError: When there is no place for it.
        """
        return document.with_more(records, self._part.path, self._part.under, self._answers)

    def _answers(self, names: list[str]) -> list[Document | None]:
        """Return the answers about some addresses or ids, in their order; the same is asked for once."""
        asked: dict[str, Future[Document | None]] = {}
        try:
            for name in names:
                if name not in asked:
                    asked[name] = self._pool.submit(self._one, name)
            return [asked[name].result() for name in names]
        except BaseException:
            for future in asked.values():
                future.cancel()
            raise

    def _one(self, name: str) -> Document | None:
        try:
            answer = self._ask(Asked(self._part, template=self._part.url, each=name))
        except NotFoundError:
            if self._part.if_missing == "stop":
                raise
            return JsonDocument(None)
        document = document_of(answer.head) if answer.rest is None else None
        if document is None:
            said = "expected one document of JSON or XML, of at most 16 MiB, for a record"
            raise SourceError(f"{shown(answer.url)}: {said}")
        return part_at(document, self._part.records)
