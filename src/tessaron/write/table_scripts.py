"""The SQL that makes the tables of a layout or of an export, and loads its files."""

from __future__ import annotations

from pathlib import Path

from tessaron.core.base.errors import UsageError
from tessaron.core.base.parsed_values import Parsed
from tessaron.decide.layout_file import Layout
from tessaron.sinks.target_folder import LAYOUT_FILE
from tessaron.sources.forms.file_form import FileForm
from tessaron.write.books.receipt import read_receipt


def ddl(source: str | Path | Layout, dialect: str = "postgresql", *, schema: str | None = None) -> str:
    """Return the SQL that makes tables, parents first, with keys, references, indexes and comments.

    Args:
        source: The folder of an export, whose files it loads too; or a layout, or the file of one.
        dialect: `postgresql`, `sqlite`, `mysql`, `mariadb`, `sqlserver`, `oracle`, `ansi`, or what SQLAlchemy
            calls another whose package is installed.
        schema: The schema that the tables stand in.

    Raises:
        SourceError: When there is no layout.
        LayoutError: With all that is wrong in it.
        UsageError: When there is no such dialect, or the database would not take the tables.
    """
    from tessaron.sinks.ddl.create_tables import CreateTables, required_columns
    from tessaron.sinks.ddl.known_dialects import dialect_named
    from tessaron.sinks.ddl.load_script import load_script
    from tessaron.sinks.ddl.sql_dialects import check_tables

    folder = Path(source) if not isinstance(source, Layout) and Path(source).is_dir() else None
    if isinstance(source, Layout):
        layout = source
    else:
        layout = Layout.read(source if folder is None else folder / LAYOUT_FILE)
    tables = layout.compiled(secret=b"any").written().tables
    spoken = dialect_named(dialect)
    check_tables(spoken, tables)
    made = CreateTables(spoken, tables, schema, required_columns(layout.part))
    if folder is None:
        return load_script(made)
    receipt = _receipt_in(folder)
    files = {table["name"]: table["file"] for table in receipt["tables"]}
    return load_script(made, files, FileForm.of(receipt))


def _receipt_in(folder: Path) -> dict[str, Parsed]:
    """Return the receipt of an export.

    Raises:
        UsageError: When the folder has no receipt.
    """
    receipt = read_receipt(folder)
    if not receipt:
        raise UsageError(f"{folder}: has no receipt; expected the folder of an export, or a layout")
    return receipt
