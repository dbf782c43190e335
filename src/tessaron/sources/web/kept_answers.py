"""Answers kept in a folder, without secrets: to look at, to run from once more, to go on with.

`answers.ndjson` has a line for each, in the order in which they came: what was asked, where the answer came
from, which page it names as the next, what its headers say of pages, and its file. The first line says of
which feed they are, and what was filled in; the last one, `{"complete": true}`, that the run came to its end.
"""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from dataclasses import replace
from pathlib import Path
from threading import Lock
from typing import cast

from tessaron.core.base.errors import SourceError, TargetError, UsageError
from tessaron.sources.forms.addresses import without_user
from tessaron.sources.web.answers import PAGE_BYTES, PIECE_BYTES, Answer
from tessaron.sources.web.feed_model import FeedPart
from tessaron.sources.web.secret_values import Hidden, Masker

INDEX = "answers.ndjson"
_ASKED, _FROM, _NEXT, _SAID, _FILE, _BYTES = "asked", "from", "next", "said", "file", "bytes"


class KeptAnswers:
    """A folder of answers.

    Args:
        folder: The folder.
        feed: What is asked.
        is_live: Whether what is not there is asked for and kept; else it is a fault.

    Attributes:
        values: What was filled into the requests, for a run that goes on or is done once more.
        count: How many answers were there at first.

    Raises:
        SourceError: When there are none to run from.
        UsageError: When the answers are those of another feed, or of a run that is complete.
    """

    def __init__(self, folder: Path, feed: FeedPart, is_live: bool):
        self.folder, self._feed, self.is_live = folder, feed, is_live
        self.values: dict[str, str | int] = {}
        self._known: dict[str, dict[str, object]] = {}
        self._lock = Lock()
        self._number = 0
        if (folder / INDEX).is_file():
            self._read()
        elif not is_live:
            raise SourceError(f"{folder}: no kept answers; --keep-answers keeps some")
        self.count = len(self._known)

    def begin(self, values: Mapping[str, str | int]) -> None:
        """Say what is filled in; the first line of a new folder.

        Raises:
            TargetError: When the folder cannot be written, or has other things in it.
        """
        if not self.is_live:
            return
        is_new = not (self.folder / INDEX).exists()
        try:
            self.folder.mkdir(parents=True, exist_ok=True)
            is_foreign = is_new and any(self.folder.iterdir())
            if not is_new:
                _drop_cut_line(self.folder / INDEX)
        except OSError as error:
            raise TargetError(f"{self.folder}: cannot be written: {error.strerror}") from error
        if is_foreign:
            raise TargetError(f"{self.folder}: not empty, and has no kept answers; name another folder")
        if is_new:
            self._write({"feed": self._feed_as_text(), "values": dict(values)})

    def answer(self, key: str) -> Answer | None:
        """Return the kept answer to a request; None for what is to be asked for.

        Raises:
            SourceError: When nothing is asked for, and there is none.
        """
        line = self._known.get(key)
        if line is None:
            if self.is_live:
                return None
            said = "there is no kept answer to it; were all pages kept?"
            raise SourceError(f"{self.folder / INDEX}: {key}: {said}")
        path = self.folder / str(line[_FILE])
        following = line.get(_NEXT)
        try:
            stream = path.open("rb")
        except OSError as error:
            raise SourceError(f"{path}: cannot be read: {error.strerror}") from error
        with stream:
            head = stream.read(PAGE_BYTES)
            is_whole = not stream.read(1)
        rest = None if is_whole else _pieces_after(path, len(head))
        headers = cast(dict[str, str], line.get(_SAID, {}))
        return Answer(str(line[_FROM]), head, rest, None if following is None else str(following), headers)

    def keep(self, key: str, answer: Answer, hidden: Hidden) -> Answer:
        """Keep an answer; return it, and what is left of a long one is kept while it is read."""
        with self._lock:
            self._number += 1
            number = self._number
        ending = ".xml" if answer.head.lstrip()[:1] == b"<" else ".json"
        name = f"{number:05}{ending}"
        line: dict[str, object] = {_ASKED: key, _FROM: hidden.masked(answer.url)}
        if answer.following is not None:
            line[_NEXT] = hidden.masked(answer.following)
        # Of headers only what the feed reads: others could hold anything.
        pages = self._feed.pages
        read = [name.lower() for name in (pages.header, pages.total_header) if name is not None]
        if said := {name: hidden.masked(answer.headers[name]) for name in read if name in answer.headers}:
            line[_SAID] = said
        line[_FILE] = name
        if answer.rest is None:
            self._finish(line, answer.head, hidden.masker())
            return answer
        return replace(answer, rest=self._kept_meanwhile(line, answer, hidden))

    def complete(self) -> None:
        """Say that the run came to its end."""
        if self.is_live:
            self._write({"complete": True})

    def _kept_meanwhile(self, line: dict[str, object], answer: Answer, hidden: Hidden) -> Iterator[bytes]:
        assert answer.rest is not None
        aside, masker = self.folder / f"{line[_FILE]}.part", hidden.masker()
        with aside.open("wb") as stream:
            stream.write(masker.masked(answer.head))
            for piece in answer.rest:
                stream.write(masker.masked(piece))
                yield piece
            stream.write(masker.rest())
            line[_BYTES] = stream.tell()
        aside.rename(self.folder / str(line[_FILE]))
        self._write(line)

    def _finish(self, line: dict[str, object], data: bytes, masker: Masker) -> None:
        path = self.folder / str(line[_FILE])
        aside = path.with_name(f"{path.name}.part")
        try:
            with aside.open("wb") as stream:
                stream.write(masker.masked(data) + masker.rest())
                line[_BYTES] = stream.tell()
            aside.rename(path)
            self._write(line)
        except OSError as error:
            raise TargetError(f"{path}: cannot be written: {error.strerror}") from error

    def _write(self, line: Mapping[str, object]) -> None:
        # The file is closed after each line, so that a run that is broken off can go on after it.
        with self._lock, (self.folder / INDEX).open("a", encoding="utf-8") as stream:
            stream.write(json.dumps(line, ensure_ascii=False) + "\n")

    def _read(self) -> None:
        # The last line may have been cut off with the run.
        lines = (self.folder / INDEX).read_bytes().split(b"\n")[:-1]
        try:
            found = [json.loads(line) for line in lines]
        except ValueError as error:
            raise SourceError(f"{self.folder / INDEX}: not lines of JSON: {error}") from error
        if not found or "feed" not in found[0]:
            raise SourceError(f"{self.folder / INDEX}: the first line does not say of which feed it is")
        if found[0]["feed"] != self._feed_as_text():
            raise UsageError(f"{self.folder}: has the answers of another feed, or of an earlier form of it")
        if self.is_live and found[-1].get("complete"):
            said = "has all answers of a run; run from them by --from-answers, or name another folder"
            raise UsageError(f"{self.folder}: {said}")
        self.values = dict(found[0]["values"])
        for line in found[1:]:
            if _ASKED in line:
                self._known[line[_ASKED]] = line
                self._number = max(self._number, int(str(line[_FILE]).partition(".")[0]))

    def _feed_as_text(self) -> dict[str, object]:
        """Return the feed as its file has it; of an address what could be secret is left out."""
        found: dict[str, object] = self._feed.model_dump(mode="json", exclude_unset=True)
        return {**found, "url": without_user(self._feed.url)}


def _drop_cut_line(path: Path) -> None:
    """Take off the last line where it was cut off with the run."""
    data = path.read_bytes()
    if not data.endswith(b"\n"):
        path.write_bytes(data[: data.rfind(b"\n") + 1])


def _pieces_after(path: Path, begin: int) -> Iterator[bytes]:
    with path.open("rb") as stream:
        stream.seek(begin)
        while piece := stream.read(PIECE_BYTES):
            yield piece
