"""What must be right in a feed beyond its form: paths are paths, and names are known where they stand."""

from __future__ import annotations

from collections.abc import Iterator, Set

from lxml import etree

from tessaron.core.base.errors import UsageError
from tessaron.core.expressions.expression_faults import nearest
from tessaron.core.query.jsonpath import parse_path
from tessaron.sources.web.feed_model import FeedPart, RequestPart
from tessaron.sources.web.templates import names_in, texts_of

Fault = tuple[tuple[str, ...], str]
_MOMENTS = frozenset(("today", "yesterday", "now"))


def faults_of(feed: FeedPart) -> Iterator[Fault]:
    """Yield what is wrong in a feed, with the keys that lead there."""
    yield from _wrong_paths(feed)
    known = {*_MOMENTS, *feed.values, *feed.secrets, *(("mark",) if feed.mark is not None else ())}
    for number, step in enumerate(feed.before):
        yield from _unknown(step, step.url, known, ("before", str(number + 1)))
        taken = {*step.take, *step.secrets}
        for name in sorted(taken & known):
            yield ("before", str(number + 1)), f"{{{name}}} stands for something else already"
        known |= taken
    if feed.sign_in is not None:
        for name in names_in(feed.sign_in.secret):
            if not any(name in step.secrets for step in feed.before):
                yield ("sign_in", "secret"), f"{{{name}}}: no step before takes such a secret"
    yield from _unknown(feed, feed.url, known, ())
    if feed.each is not None:
        yield from _unknown(feed.each, feed.each.url, known | {"each"}, ("each",))
    if feed.pages.within == "body" and feed.method != "POST":
        yield ("pages", "within"), 'pages by the body need method = "POST"'


def _unknown(part: RequestPart, url: str, known: Set[str], above: tuple[str, ...]) -> Iterator[Fault]:
    """Yield the names in braces that stand for nothing."""
    for keys, text in texts_of(part, url):
        for name in names_in(text):
            if name not in known:
                yield (*above, *keys), f"{{{name}}} stands for nothing; {nearest(name, sorted(known))}"


def _wrong_paths(feed: FeedPart) -> Iterator[Fault]:
    """Yield what is to be a path and is none, of JSON or XML."""
    paths: list[tuple[tuple[str, ...], str | None]] = [
        (("records",), feed.records),
        (("pages", "path"), feed.pages.path),
        (("pages", "total"), feed.pages.total),
    ]
    if feed.each is not None:
        paths += [(("each", "path"), feed.each.path), (("each", "records"), feed.each.records)]
    if feed.mark is not None:
        paths.append((("mark", "path"), feed.mark.path))
    for number, step in enumerate(feed.before):
        for key, wanted in (("take", step.take), ("secrets", step.secrets)):
            paths += [(("before", str(number + 1), key, name), path) for name, path in wanted.items()]
    for keys, path in paths:
        if path is not None and (said := _not_a_path(path)):
            yield keys, said


def _not_a_path(path: str) -> str:
    """Return what is wrong with a path; one that begins with $ is JSONPath, another XPath."""
    try:
        if path.startswith("$"):
            parse_path(path)
        else:
            etree.XPath(path)
    except UsageError as error:
        return str(error)
    except etree.XPathSyntaxError as error:
        return f"expected JSONPath, which begins with $, or XPath, got {path!r}: {error}"
    return ""
