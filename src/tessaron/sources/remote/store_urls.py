"""Which URLs are those of object stores and file systems, and what is needed for them."""

from __future__ import annotations

import re
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import PurePosixPath
from typing import TYPE_CHECKING

from tessaron.core.base.errors import SourceError, TessaronError, UsageError

if TYPE_CHECKING:
    from fsspec import AbstractFileSystem

_EXTRAS = {
    "s3": "s3", "s3a": "s3", "gs": "gs", "gcs": "gs", "az": "az", "abfs": "az", "abfss": "az", "adl": "az",
    "sftp": "sftp", "ssh": "sftp", "smb": "smb", "ftp": "stores", "hdfs": "stores", "webhdfs": "stores",
    "memory": "stores", "file": "stores",
}  # fmt: skip
"""The schemes, and the extra that each needs."""
_URL = re.compile(r"([a-z][a-z0-9+]*)://")


def is_store(text: object) -> bool:
    """Say whether a text is the URL of an object store or file system."""
    found = _URL.match(text) if isinstance(text, str) else None
    return found is not None and found[1] in _EXTRAS


def file_system_of(url: str) -> tuple[AbstractFileSystem, str]:
    """Return the file system of a URL, and the path in it.

    Raises:
        UsageError: When what it needs is not installed, or the URL cannot be right.
    """
    scheme = url.partition("://")[0]
    extra = _EXTRAS[scheme]
    try:
        from fsspec.core import url_to_fs

        # What it lists is what is there now.
        system, path = url_to_fs(url, use_listings_cache=False)
    except ImportError as error:
        raise UsageError(f"{shown(url)}: needs pip install 'tessaron[{extra}]' ({error})") from error
    except (ValueError, TypeError) as error:
        raise UsageError(f"{shown(url)}: {error}") from error
    return system, str(path)


def shown(url: str) -> str:
    """Return a URL without user and password."""
    scheme, colon, rest = url.partition("://")
    host, slash, path = rest.partition("/")
    return f"{scheme}{colon}{host.rpartition('@')[2]}{slash}{path}"


def url_of(url: str, path: str) -> str:
    """Return the URL of an object by its path, at the place of another."""
    scheme = url.partition("://")[0]
    return f"{scheme}://{path.lstrip('/') if scheme != 'file' else path}"


def name_in(path: str, root: str) -> str:
    """Return a path as seen from one above it; its own name where it is that one."""
    root = root.rstrip("/")
    return path[len(root) :].lstrip("/") or PurePosixPath(path).name


@contextmanager
def told(url: str, kind: type[TessaronError] = SourceError) -> Iterator[None]:
    """Turn what a store says into an error that names the URL."""
    try:
        yield
    except TessaronError:
        raise
    except FileNotFoundError as error:
        raise kind(f"{shown(url)}: is not there; check the name") from error
    except PermissionError as error:
        raise kind(f"{shown(url)}: may not be reached: {_first_line(error)}") from error
    except Exception as error:
        # Each store has errors of its own.
        if isinstance(error, (OSError, ValueError)) or type(error).__module__.partition(".")[0] in _STORES:
            raise kind(f"{shown(url)}: {_first_line(error) or type(error).__name__}") from error
        raise


_STORES = frozenset(
    ("botocore", "aiobotocore", "aiohttp", "gcsfs", "azure", "paramiko", "smbprotocol", "asyncio")
)


def _first_line(error: Exception) -> str:
    return (str(error).splitlines() or [""])[0]
