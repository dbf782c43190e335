"""A place in an object store as a folder of this machine: a copy, for as long as it is needed."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from tessaron.core.base.errors import SourceError
from tessaron.sources.forms.addresses import without_user
from tessaron.sources.remote.store_urls import file_system_of, is_store, told


@contextmanager
def local_folder(folder: str | Path) -> Iterator[Path]:
    """Yield a folder: the one that is named, or a copy of what stands at a URL.

    Raises:
        SourceError: When nothing is there.
    """
    if not is_store(folder):
        yield Path(folder)
        return
    url = str(folder).rstrip("/")
    system, root = file_system_of(url)
    with tempfile.TemporaryDirectory(prefix="tessaron-") as made:
        with told(url):
            names = system.find(root)
            if not names:
                raise SourceError(f"{without_user(url)}: nothing is there; check the name")
            for path in names:
                name = path[len(root.rstrip("/")) :].lstrip("/")
                target = Path(made) / (name or Path(path).name)
                target.parent.mkdir(parents=True, exist_ok=True)
                system.get_file(path, str(target))
        yield Path(made)


def text_in(folder: str | Path, name: str) -> str:
    """Return the text of one file of a folder, or of a place in a store.

    Raises:
        SourceError: When it cannot be read.
    """
    try:
        if not is_store(folder):
            return (Path(folder) / name).read_text("utf-8")
        url = str(folder).rstrip("/")
        system, root = file_system_of(url)
        with told(url):
            return str(system.cat_file(f"{root.rstrip('/')}/{name}").decode())
    except OSError as error:
        raise SourceError(f"{without_user(str(folder))}: {name} cannot be read: {error.strerror}") from error
