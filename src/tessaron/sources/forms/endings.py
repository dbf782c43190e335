"""The endings of names by which files in folders and archives are told."""

from __future__ import annotations

PLAIN_ENDINGS = (".json", ".ndjson", ".jsonl", ".json-seq", ".geojson")
"""Those of JSON that is not packed."""
FETCH_RECEIPT = "fetch.receipt"
"""What stands beside documents that were fetched; it is none, and nobody has to be told."""
PACKED = ("", ".gz", ".bz2", ".xz", ".zst")
"""What may stand behind them where files are packed."""
JSON_ENDINGS = tuple(ending + packed for ending in PLAIN_ENDINGS for packed in PACKED)
XML_ENDINGS = tuple(".xml" + packed for packed in PACKED)
ARROW_ENDINGS = (".parquet", ".arrow", ".feather")
SHEET_ENDINGS = (".xlsx", ".xlsm")
TYPED_ENDINGS = (*ARROW_ENDINGS, *SHEET_ENDINGS)
"""Tables whose columns, or cells, have types."""
TABULAR_ENDINGS = (*(end + packed for end in (".csv", ".tsv", ".psv") for packed in PACKED), *TYPED_ENDINGS)
ARCHIVE_ENDINGS = (
    ".zip", ".tar", ".tgz", ".tbz2", ".txz", ".tzst", ".tar.gz", ".tar.bz2", ".tar.xz", ".tar.zst",
)  # fmt: skip
