"""Finding what a path matches in a source: JSONPath on JSON, XPath 1.0 on XML."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import TYPE_CHECKING

from tessaron.core.query.jsonpath import parse_path
from tessaron.engine.path_reading import Found, PathReader
from tessaron.sources.formats import xml_inputs
from tessaron.sources.resolving import Source, resolve_inputs

if TYPE_CHECKING:
    from tessaron.look.xml_finding import XmlFound


def find(
    source: Source, path: str, *, records: str | None = None, namespaces: Mapping[str, str] | None = None
) -> Iterator[Found] | Iterator[XmlFound]:
    """Iterate over what a path matches in the documents of a source, with the place of each match.

    Args:
        source: As in `shred`.
        path: JSONPath (RFC 9535); `$` is each document, or each record where `records` is given. A path that
            begins with names and `[*]` or a filter streams through a document of any size. For XML, an
            expression of XPath 1.0; one that begins with names streams.
        records: Where the records stand, as JSONPath or XPath.
        namespaces: For XML: namespaces by prefix, beside those that the documents declare.

    Raises:
        SourceError: When a source cannot be read.
        DataError: When it is neither JSON nor XML.
        UsageError: When a path cannot be right; it says at which character.
    """
    inputs = resolve_inputs(source)
    documents = xml_inputs(inputs)
    if documents is not None:
        # What reads XML takes time to load.
        from tessaron.look.xml_finding import XPathReader

        return iter(XPathReader(documents, path, records, namespaces or {}))
    where = None if records is None else parse_path(records)
    return iter(PathReader(inputs, parse_path(path), where))
