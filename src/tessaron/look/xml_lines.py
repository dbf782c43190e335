"""The values of XML sources as lines: documents are read block by block and never held."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from lxml import etree

from tessaron.core.base.errors import Code, DataError, Place
from tessaron.core.base.visible import in_quotes
from tessaron.core.kernel.xml_parsing import reason_of
from tessaron.core.lines.xml_value_lines import UndeclaredPrefixError, ValueLines, lines_of
from tessaron.core.markup.namespaces import Prefixes
from tessaron.sources.forms.encodings import utf8_blocks
from tessaron.sources.inputs import ByteInput
from tessaron.sources.xml_blocks import with_head

_BLOCK_BYTES = 256 * 1024


def xml_lines(inputs: Sequence[ByteInput]) -> Iterator[str]:
    """Yield a line for each attribute and text of the documents: XPath with positions, a tab, text as JSON.

    Raises:
        SourceError: When a source cannot be read.
        DataError: When it is not XML; it says where.
    """
    prefixes = Prefixes()
    for number, entry in enumerate(inputs, 1):
        position = number if number > 1 else 0
        with entry.open() as stream:
            _, raw = utf8_blocks(entry.name, stream, _BLOCK_BYTES, _ignore, heeds_declaration=True)
            _, _, blocks = with_head(entry.name, raw)
            try:
                yield from lines_of(blocks, ValueLines(prefixes, position))
            except UndeclaredPrefixError as error:
                reason = f"expected declared prefixes: {in_quotes(error.prefix)} stands for no namespace"
                raise DataError(reason, Place(entry.name, line=error.line), Code.NAMESPACE) from None
            except etree.XMLSyntaxError as error:
                code, reason = reason_of(str(error.msg))
                line, column = error.position
                raise DataError(reason, Place(entry.name, line=line, column=column), code) from None


def _ignore(byte_count: int) -> None:
    pass
