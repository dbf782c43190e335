"""XML Schema files with all that they include and import from beside them; nothing is fetched."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from urllib.parse import unquote, urlparse

from lxml import etree

from tessaron.core.base.errors import DataError, Place, SourceError, UsageError
from tessaron.core.base.parsed_values import XmlElement
from tessaron.core.kernel.xml_parsing import reason_of, safe_parser
from tessaron.core.markup.schema import XSD, Schema

_MOST_FILES = 1_000
_REFERENCES = tuple(f"{{{XSD}}}{name}" for name in ("include", "import", "redefine"))


@dataclass(frozen=True, slots=True)
class SchemaFiles:
    """A schema as it was read.

    Attributes:
        name: The file that was asked for.
        documents: The text of each file by its path, the first one that asked for.
        schema: What it declares.
    """

    name: str
    documents: tuple[tuple[str, bytes], ...]
    schema: Schema


def read_schema(path: str | Path) -> SchemaFiles:
    """Return a schema with the local files it refers to.

    Raises:
        SourceError: When a file cannot be read.
        DataError: When one is not XML.
        UsageError: When one is no schema.
    """
    first = Path(path)
    found: dict[Path, bytes] = {}
    pending = [first]
    while pending:
        file = pending.pop(0)
        if file.resolve() in found:
            continue
        if len(found) > _MOST_FILES:
            raise UsageError(f"{path}: refers to more than {_MOST_FILES:,} files")
        data = _read(file, first)
        root = _parsed(file, data)
        if root.tag != f"{{{XSD}}}schema":
            shown = etree.QName(root).localname
            raise UsageError(f"{file}: expected an XML Schema, found an element {shown}")
        found[file.resolve()] = data
        for each in root:
            location = each.get("schemaLocation") if each.tag in _REFERENCES else None
            if location is None:
                continue
            place = urlparse(location)
            if place.scheme in ("", "file"):
                pending.append(file.parent / unquote(place.path))
            elif (beside := file.parent / Path(unquote(place.path)).name).is_file():
                # Nothing is fetched: what is elsewhere may have been put beside the schema.
                pending.append(beside)
    documents = tuple((file.as_posix(), data) for file, data in found.items())
    return SchemaFiles(str(path), documents, Schema(documents))


def _read(file: Path, first: Path) -> bytes:
    try:
        return file.read_bytes()
    except OSError as error:
        by = "" if file == first else f" (wanted by {first})"
        raise SourceError(f"{file}: cannot be read: {error.strerror}{by}") from error


def _parsed(file: Path, data: bytes) -> XmlElement:
    try:
        return etree.fromstring(data, safe_parser())
    except etree.XMLSyntaxError as error:
        code, reason = reason_of(str(error.msg))
        line, column = error.position
        raise DataError(reason, Place(str(file), line=line, column=column), code) from None
