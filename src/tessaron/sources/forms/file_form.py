"""The form in which tables stand in files: the format, and all that may be said about it."""

from __future__ import annotations

import codecs
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, fields
from difflib import get_close_matches
from typing import Any, Literal, TypedDict

from tessaron.core.base.errors import UsageError
from tessaron.core.base.visible import in_quotes

FormatName = Literal["parquet", "csv", "tsv", "arrow", "jsonl", "xlsx"]
_COMPRESSIONS = {
    "parquet": ("zstd", "none", "snappy", "gzip", "brotli", "lz4"),
    "csv": ("none", "gzip"),
    "tsv": ("none", "gzip"),
    "arrow": ("zstd", "none", "lz4"),
    "jsonl": ("none", "gzip"),
    "xlsx": ("none",),
}
"""How each format can be packed; the first is how it is if nothing is said."""
FORMAT_NAMES = tuple(_COMPRESSIONS)
_OF_CSV = ("quoting", "null", "encoding", "line_end", "header")
NO_VALUE = "__HIVE_DEFAULT_PARTITION__"
"""What folders of rows without a value are called, as everywhere that folders stand for values."""


class FileOptions(TypedDict, total=False):
    """What may be said about the form of files; what each means stands at `FileForm`."""

    compression: str
    delimiter: str
    quoting: Literal["texts", "all", "needed"]
    null: str
    encoding: str
    line_end: Literal["crlf", "lf"]
    header: bool
    group_rows: int
    file_rows: int
    partition: Sequence[str]
    sort: Sequence[str]


@dataclass(frozen=True, slots=True)
class FileForm:
    """How tables stand in files.

    Attributes:
        name: The format.
        compression: How files are packed; empty for what is usual.
        delimiter: Of CSV: what stands between fields.
        quoting: Of CSV: what stands in quotes: all `texts`, `all` that is not null, or what has `needed` it.
        null: Of CSV: what stands for null; a text like it stands in quotes.
        encoding: Of CSV: the encoding, as Python calls it.
        line_end: Of CSV: `crlf` (RFC 4180) or `lf`.
        header: Of CSV: whether the first line has the names.
        group_rows: Of Parquet: so many rows in each row group; 0 for what suits the columns.
        file_rows: So many rows in each file, at most; 0 for one file.
        partition: Columns whose values are folders, and stand in no file; of tables that have them.
        sort: Columns by which the rows of tables that have them stand.
        for_spreadsheets: Of CSV: whether texts that look like formulas begin with an apostrophe.
    """

    name: FormatName = "parquet"
    compression: str = ""
    delimiter: str = ","
    quoting: Literal["texts", "all", "needed"] = "texts"
    null: str = ""
    encoding: str = "utf-8"
    line_end: Literal["crlf", "lf"] = "crlf"
    header: bool = True
    group_rows: int = 0
    file_rows: int = 0
    partition: tuple[str, ...] = ()
    sort: tuple[str, ...] = ()
    for_spreadsheets: bool = False

    def __post_init__(self) -> None:
        if self.name not in FORMAT_NAMES:
            raise UsageError(f"expected a format of {', '.join(FORMAT_NAMES)}, got {in_quotes(self.name)}")
        known = _COMPRESSIONS[self.name]
        if self.compression and self.compression not in known:
            raise UsageError(
                f"{self.name} is packed as one of {', '.join(known)}, not {in_quotes(self.compression)}"
            )
        for option in _OF_CSV if not self.is_csv else ():
            if getattr(self, option) != _DEFAULTS[option]:
                raise UsageError(f"{option} goes with csv and tsv, not with {self.name}")
        if self.for_spreadsheets and not self.is_csv:
            raise UsageError(f"for_spreadsheets goes with csv, not with {self.name}")
        if self.group_rows and self.name != "parquet":
            raise UsageError(f"group_rows goes with parquet, not with {self.name}")
        if self.name == "xlsx" and (self.file_rows or self.partition or self.sort):
            raise UsageError("a spreadsheet is one file with all rows as they come")
        self._check_csv()

    def _check_csv(self) -> None:
        if len(self.delimiter) != 1 or not self.delimiter.isascii() or self.delimiter in '"\r\n':
            raise UsageError(f"expected one letter as delimiter, got {in_quotes(self.delimiter)}")
        if any(letter in self.null for letter in ('"', "\r", "\n", self.delimiter)):
            raise UsageError(f"null cannot be {in_quotes(self.null)}: it stands without quotes")
        try:
            codecs.lookup(self.encoding)
        except LookupError:
            raise UsageError(
                f"expected an encoding, such as utf-8 or cp1252, got {in_quotes(self.encoding)}"
            ) from None

    def check_columns(self, names: Iterable[str]) -> None:
        """Check that there are the columns by which tables are parted or sorted.

        Raises:
            UsageError: When no table has one of them.
        """
        there = set(names)
        for name in (*self.partition, *self.sort):
            if name not in there:
                near = get_close_matches(name, there, 1)
                hint = f"; did you mean {near[0]}?" if near else ""
                raise UsageError(f"no table has a column {in_quotes(name)} to part or sort by{hint}")

    @property
    def is_csv(self) -> bool:
        """Whether it is CSV, or its like."""
        return self.name in ("csv", "tsv")

    @property
    def packed(self) -> str:
        """How files are packed."""
        return self.compression or _COMPRESSIONS[self.name][0]

    @property
    def separator(self) -> str:
        """What stands between fields of CSV."""
        return "\t" if self.name == "tsv" and self.delimiter == "," else self.delimiter

    @property
    def ending(self) -> str:
        """How the names of files end."""
        return f".{self.name}" + (".gz" if self.packed == "gzip" and self.name != "parquet" else "")

    @property
    def is_plain_csv(self) -> bool:
        """Whether it is CSV just as RFC 4180 has it, with all texts in quotes."""
        said = {name: getattr(self, name) for name in _OF_CSV}
        return self.separator == "," and said == {name: _DEFAULTS[name] for name in _OF_CSV}

    @property
    def has_folders(self) -> bool:
        """Whether a table is a folder of files."""
        return bool(self.file_rows or self.partition)

    @property
    def is_ordered(self) -> bool:
        """Whether rows stand in the order in which they came."""
        return not (self.partition or self.sort)

    def to_dict(self) -> dict[str, Any]:
        """Return what was said of it, beside what receipts have by themselves."""
        return {
            name: getattr(self, name)
            for name in _DEFAULTS
            if name not in ("name", "for_spreadsheets") and getattr(self, name) != _DEFAULTS[name]
        }

    @classmethod
    def of(cls, receipt: Mapping[str, Any]) -> FileForm:
        """Return the form of the files that a receipt tells of."""
        said: dict[str, Any] = {
            name: tuple(value) if isinstance(value, list) else value
            for name, value in receipt.get("form", {}).items()
            if name in _DEFAULTS
        }
        if receipt.get("for_spreadsheets"):
            said["for_spreadsheets"] = True
        name = receipt.get("format", "parquet")
        return cls(name if name in FORMAT_NAMES else "parquet", **said)


_DEFAULTS = {field.name: field.default for field in fields(FileForm)}
