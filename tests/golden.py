"""Golden folders: small documents, and exactly the folder that an export makes of them.

    python -m tests.golden           # makes all of them anew, and the schemas of layouts and feed files: read the difference, then commit it

Each folder under `golden_folders` has `source.ndjson` (or `.json`, `.xml`), perhaps `given.layout.toml` and `options.json`,
and in `out` what comes of it, without the receipt, which tells times.
"""

import json
import shutil
import tempfile
from pathlib import Path

import tessaron
from tessaron.core.layout.layout_model import layout_schema
from tessaron.sources.web.feed_model import feed_schema

FOLDERS = Path(__file__).parent / "golden_folders"
PACKAGE = Path(tessaron.__file__).parent
SCHEMAS = {PACKAGE / "layout.schema.json": layout_schema, PACKAGE / "feed.schema.json": feed_schema}


def cases():
    """Return all golden folders."""
    return sorted(path for path in FOLDERS.iterdir() if path.is_dir())


def source_of(case):
    """Return the document of a golden folder."""
    return next(case.glob("source.*"))


def made_of(case, target):
    """Export the document of a golden folder as its options say, and return the files by name, as texts."""
    options = json.loads(path.read_text()) if (path := case / "options.json").exists() else {}
    given = case / "given.layout.toml"
    if given.exists():
        options["layout"] = tessaron.Layout.read(given)
    elif "flat" not in options:
        options["name"] = case.name
    tessaron.export(source_of(case), target, format="csv", replace=True, **options)
    # Line breaks stay what they are: CSV has its own.
    return {
        path.name: path.read_bytes().decode().replace(f"{FOLDERS}/", "")
        for path in sorted(target.iterdir())
        if path.name != "receipt.json"
    }


def main():
    for case in cases():
        with tempfile.TemporaryDirectory() as folder:
            files = made_of(case, Path(folder) / "out")
        shutil.rmtree(case / "out", ignore_errors=True)
        (case / "out").mkdir()
        for name, text in files.items():
            (case / "out" / name).write_bytes(text.encode())
        print(f"{case.name}: {', '.join(files)}")
    for path, schema in SCHEMAS.items():
        path.write_text(json.dumps(schema(), indent=2) + "\n", "utf-8")


if __name__ == "__main__":
    main()
