"""What may stand in a layout file: the model that checks it, and that its JSON Schema is made from."""

from __future__ import annotations

from datetime import date, datetime, time
from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, StrictBool, StrictFloat, StrictInt, StrictStr

Text = Annotated[str, Field(strict=True)]
Flag = Annotated[bool, Field(strict=True)]
Count = Annotated[int, Field(strict=True)]
Value = StrictBool | StrictInt | StrictFloat | StrictStr | datetime | date | time
FoldName = Literal[
    "joined",
    "first",
    "last",
    "nth",
    "count",
    "count_distinct",
    "sum",
    "mean",
    "least",
    "most",
    "any",
    "all",
    "json",
]
OriginName = Literal[
    "key",
    "origin_file",
    "origin_record",
    "origin_line",
    "origin_document",
    "document_key",
    "enclosing_key",
    "enclosing_key_2",
    "enclosing_key_3",
    "enclosing_key_4",
    "enclosing_key_5",
    "enclosing_key_6",
    "element",
    "within_path",
    "depth",
    "row_rest",
]
Failed = Literal["record", "note", "stop"]
Misfit = Literal["value", "record", "note", "stop"]


class _Part(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)


class ReadingPart(_Part):
    """How the source is read."""

    format: Literal["json", "xml"] = Field("json", description="What the source is written in.")
    records: Text | None = Field(
        None, description="Where the records stand, as JSONPath (RFC 9535), or for XML as XPath 1.0."
    )
    element: Text | None = Field(
        None,
        description="For XML: the name of the records' elements, where their path does not say it.",
    )
    name: Text | None = Field(None, description="The word for a record; used when columns are drafted anew.")
    keys: Literal["sequence", "digest"] = Field(
        "sequence", description="Row keys: numbers, or digests that are the same on every run."
    )
    envelope: Flag = Field(True, description="Whether what stands around the records is kept.")
    duplicate_keys: Literal["last", "reject"] = Field(
        "last", description="For a name twice in one object: the last value wins, or reject the record."
    )
    nulls: list[Text] = Field([], description="Texts that mean null, in every column.")
    names: Literal["path", "leaf"] = Field(
        "path", description="How new columns are named: by their path, or by as little of it as is needed."
    )
    white_space: Literal["trim", "collapse", "keep"] = Field(
        "trim", description="Of XML: what becomes of white space at the ends of texts, and inside (collapse)."
    )
    xsd: Text | None = Field(
        None, description="Of XML: the schema (XSD 1.0) that records are checked against."
    )
    namespaces: dict[str, Text] = Field(
        {}, description="Of XML: namespaces by the prefix that paths have for them."
    )
    mask_key: Text = Field(
        "TESSARON_MASK_KEY",
        description="The environment variable with the secret that digest masks are made with.",
    )


class StructurePart(_Part):
    """What the documents do not say themselves. Paths are JSONPath, from the record."""

    arrays: list[Text] = Field([], description="A single value here counts as an array of one.")
    dictionaries: list[Text] = Field([], description="The object here is a dictionary: its names are keys.")
    not_dictionaries: list[Text] = Field([], description="The object here is none, whatever it looks like.")
    split: dict[str, Text] = Field({}, description="Texts here are lists; the value is what separates them.")
    embedded: dict[str, Literal["json", "xml"]] = Field(
        {}, description="Texts here hold documents of this format."
    )
    named_rows: dict[str, Text] = Field(
        {}, description="The arrays here are rows of bare values; the value is the path of their names."
    )
    gathered: dict[str, list[Text]] = Field(
        {},
        description="Trees whose node names are data: the nodes inside a node come together at this path, "
        "at every depth; the value names the fields, which stay.",
    )
    merged: list[Text] = Field([], description="The elements of this array are pieces of one object.")
    unwrapped: list[Text] = Field([], description="The fields of this object move one level up.")
    again: dict[str, Text] = Field(
        {}, description="A structure that contains itself stands here again; the value is where it begins."
    )
    again_around: dict[str, Text] = Field(
        {}, description="The same for the tables of what stands around the records."
    )


class ColumnPart(_Part):
    """One column: where its values stand or how they are worked out, what they are, what must hold."""

    path: Text | None = Field(None, description="Where the values stand: `$` is the record, `@` the row.")
    value: Text | None = Field(None, description="An expression that is worked out for every row.")
    origin: OriginName | None = Field(None, description="What is known of the row besides its values.")
    type: Text | None = Field(None, description="The type, such as text, integer, decimal(9,2), timestamp.")
    hidden: Flag = Field(False, description="Whether the column is only there to be calculated with.")
    fold: FoldName | None = Field(None, description="How many values below become one.")
    separator: Text | None = Field(None, description="What stands between joined values; `, ` unless set.")
    position: Count | None = Field(None, description="Which value nth takes: from 1, or from the end (-1).")
    flags: list[Text] | None = Field(None, description="One boolean column for each of these values.")
    numbered: Annotated[int, Field(strict=True, ge=1, le=1000)] | None = Field(
        None, description="So many numbered columns, one for each of the first values."
    )
    trim: Flag = Field(False, description="Whether white space around texts is removed.")
    nulls: list[Text] = Field([], description="Texts that mean null.")
    case: Literal["upper", "lower"] | None = Field(None, description="The case that texts are brought into.")
    replace: dict[str, Text] = Field({}, description="Texts that become others.")
    default: Value | None = Field(None, description="What stands where there is no value.")
    format: Text | None = Field(None, description="Codes of strptime, for dates and times: %d/%m/%Y.")
    decimal: Literal[".", ","] = Field(".", description="The sign before the fraction of a number.")
    grouping: Literal["", ".", ",", " ", "'", "\u00a0", "\u202f"] = Field(
        "", description="What stands between groups of three digits."
    )
    written: Text | None = Field(
        None,
        description="How values stand in the source, for rebuild: shortest, fixed or point for decimals, "
        "a pattern such as YYYY-MM-DD hh:mm:ss for times.",
    )
    words: Annotated[list[Text], Field(min_length=2, max_length=2)] | None = Field(
        None, description="The words for true and for false."
    )
    unit: Literal["s", "ms", "us"] | None = Field(None, description="What numbers count since 1970 (UTC).")
    zone: Text | None = Field(None, description="The time zone of times that are written without one.")
    misfit: Misfit = Field(
        "value",
        description="What becomes of a value that does not fit: reject it or the record, note it, or stop.",
    )
    required: Flag = Field(False, description="Whether there must be a value.")
    unique: Flag = Field(False, description="Whether every row must have a value of its own.")
    allowed: list[Value] | None = Field(None, description="The only values there may be.")
    least: Value | None = Field(None, description="The smallest value there may be.")
    most: Value | None = Field(None, description="The largest value there may be.")
    pattern: Text | None = Field(None, description="A regular expression (RFC 9485) for the whole text.")
    failed: Failed = Field(
        "record", description="What becomes of it when a condition fails: reject the record, note, or stop."
    )
    mask: Literal["drop", "constant", "digest"] | None = Field(
        None, description="How personal data is hidden: not written, one text for all, or a keyed digest."
    )
    mask_text: Text = Field("***", description="The text of a constant mask.")


class TablePart(_Part):
    """One table."""

    rows: Text | list[Text] | None = Field(
        None, description="Where its rows stand; several paths make one table of what stands at each."
    )
    shared: list[Text] | None = Field(
        None,
        description="Where its rows stand, if the same structure stands at several places: a row for each, "
        "with the place; with once, the objects in which the values stand.",
    )
    parallel: list[Text] | None = Field(
        None, description="Arrays of which each is a column, with a row for every position."
    )
    parent: Text | None = Field(None, description="The table its rows belong to; else the nearest above.")
    around: Flag = Field(False, description="Whether it holds what stands around the records.")
    key: list[Text] = Field([], description="Columns that are its natural key: checked to be unique.")
    keep: Text | None = Field(None, description="Only rows for which this expression is true are kept.")
    carry: list[Text] = Field([], description="Columns of tables above that are repeated: `calls.call_id`.")
    with_empty: Flag = Field(False, description="Whether rows above without any row here stay too.")
    only_filled: Flag = Field(
        False, description="Only rows in which one of its columns has a value: a part of rows that few have."
    )
    once: Text | list[Text] | None = Field(
        None,
        description="The column whose values have one row each, or several together: a table to look up in.",
    )
    multiply: list[Text] = Field(
        [], description="Tables beside this one, whose rows each row is paired with."
    )
    write: Flag = Field(True, description="Whether the table is written, or only folded and filtered by.")
    row_key: Text | None = Field(None, description="Name of the column with the primary key.")
    parent_key: Text | None = Field(None, description="Name of the column with the parent's key.")
    ordinal: Text | None = Field(None, description="Name of the column with the position in the array.")
    place: Text | None = Field(None, description="Name of the column with the place of a row, where shared.")
    columns: dict[str, ColumnPart] = Field({}, description="Its columns, in their order.")

    def once_columns(self) -> tuple[str, ...]:
        """Return the columns whose values have one row each; none of a table that is no such."""
        if self.once is None:
            return ()
        return (self.once,) if isinstance(self.once, str) else tuple(self.once)


class LayoutPart(_Part):
    """A layout: which tables and columns come out, and how."""

    exact: Flag = Field(
        False,
        description="Whether every table has a column row_rest, which holds what the others do not tell: "
        "what is null or empty, odd spellings, the order of elements of XML.",
    )
    reading: ReadingPart = ReadingPart()
    structure: StructurePart = StructurePart()
    tables: dict[str, TablePart] = Field(min_length=1, description="The tables, parents before children.")


def layout_schema() -> dict[str, Any]:
    """Return the JSON Schema (2020-12) of a layout file."""
    schema = LayoutPart.model_json_schema()
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **schema, "title": "Tessaron layout"}
