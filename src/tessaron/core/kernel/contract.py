"""What every kernel is: a pure function from bytes of whole records to a tape."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Literal, Protocol

if TYPE_CHECKING:
    from tessaron.core.cutting.selecting import Selection
    from tessaron.core.cutting.separator import Separator
    from tessaron.core.markup.validating import RecordSchema
    from tessaron.core.tape.tape import Tape

WhiteSpace = Literal["trim", "collapse", "keep"]
DEPTH_LIMIT = 10_000
"""The deepest nesting that is read unless told otherwise, in levels of objects and arrays."""


@dataclass(frozen=True, slots=True)
class KernelOptions:
    """What a kernel may be told.

    Attributes:
        reject_repeated: Whether a record with a name twice in one object is a fault; else the last value wins
            and the earlier ones are listed.
        depth_limit: The deepest nesting that is read, in levels of objects and arrays.
        selection: What is wanted of the records; None for everything.
        tells_halves: Whether half surrogates in texts are told from what looks like one (see `surrogates`).
    """

    reject_repeated: bool = False
    depth_limit: int = DEPTH_LIMIT
    selection: Selection | None = None
    tells_halves: bool = False


DEFAULT_OPTIONS = KernelOptions()


@dataclass(frozen=True, slots=True)
class XmlOptions:
    """What the XML kernel may be told.

    Attributes:
        white_space: What becomes of white space at the ends of texts: `trim`, or `collapse` that inside too,
            or `keep`. Where `xml:space="preserve"` holds it is kept.
        predicates: XPath 1.0 predicates that wanted records fulfil, brackets included; empty for all.
        selection: What is wanted of the records; None for everything.
        location: An XPath 1.0 expression: the chunk has documents then, and the records are what it leads to.
        schema: What records are checked against; those that are otherwise are faults.
        compiled: Whether the compiled code may do what it can.
        keeps_order: Whether it is kept how elements of different names and pieces of text stand in order.
        keeps_broken: Whether an element that cannot be read leaves an empty row.
    """

    white_space: WhiteSpace = "trim"
    predicates: str = ""
    selection: Selection | None = None
    location: str = ""
    schema: RecordSchema | None = None
    compiled: bool = True
    keeps_order: bool = False
    keeps_broken: bool = False


class Kernel(Protocol):
    """`(bytes of whole records, options) -> Tape`: no I/O, no global state, the same for all splits."""

    def __call__(
        self, data: bytes, separator: Separator, continues: bool = False, options: KernelOptions = ...
    ) -> Tape:
        """Return the tape of `data`.

        Args:
            data: UTF-8 text of whole records.
            separator: What stands between them.
            continues: Whether `data` goes on where another chunk ended (only told apart for `COMMA`).
            options: See `KernelOptions`.

        Returns:
            The values of all records that could be read, and the faults of the others, in order. After a
            fault of a record whose end is known (nested too deep, a repeated name) the kernel goes on behind
            it; else at the next line for `LINE`; else it stops there.
        """
        ...
