"""Which URLs are those of object stores and file systems, and what is needed for them."""

from __future__ import annotations

import re
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import PurePosixPath
from typing import TYPE_CHECKING

from tessaron.core.base.errors import SourceError, TessaronError, UsageError
from tessaron.sources.forms.addresses import check_user, without_user

if TYPE_CHECKING:
    from fsspec import AbstractFileSystem

_EXTRAS = {
    "s3": "s3", "s3a": "s3", "gs": "gs", "gcs": "gs", "az": "az", "abfs": "az", "abfss": "az", "adl": "az",
    "sftp": "sftp", "ssh": "sftp", "smb": "smb", "ftp": "stores", "hdfs": "stores", "webhdfs": "stores",
    "memory": "stores", "file": "stores",
}  # fmt: skip
"""The schemes, and the extra that each needs."""
_WITH_HOST = frozenset(("sftp", "ssh", "smb", "ftp", "hdfs", "webhdfs"))
"""The schemes whose paths do not begin with the place (bucket, container) that a URL names as its host."""
ONE_CALL_EACH = frozenset(("sftp", "ssh", "smb", "ftp"))
"""The schemes whose connections take one call at a time, so that each thread has its own."""
_URL = re.compile(r"([a-z][a-z0-9+]*)://")


def is_store(text: object) -> bool:
    """Say whether a text is the URL of an object store or file system."""
    found = _URL.match(text) if isinstance(text, str) else None
    return found is not None and found[1] in _EXTRAS


def scheme_of(url: str) -> str:
    """Return the scheme of a URL."""
    return url.partition("://")[0]


def file_system_of(url: str) -> tuple[AbstractFileSystem, str]:
    """Return the file system of a URL, and the path in it.

    Raises:
        SourceError: When it cannot be reached.
        UsageError: When what it needs is not installed, or the URL cannot be right.
    """
    scheme = scheme_of(url)
    extra = _EXTRAS[scheme]
    check_user(url)
    try:
        from fsspec.core import url_to_fs

        with told(url):
            system, path = url_to_fs(url, **_options(scheme))
    except ImportError as error:
        raise UsageError(f"{without_user(url)}: needs pip install 'tessaron[{extra}]' ({error})") from error
    except TypeError as error:
        raise UsageError(f"{without_user(url)}: {error}") from error
    return system, str(path)


def _options(scheme: str) -> dict[str, object]:
    if scheme in ("sftp", "ssh"):
        from tessaron.sources.remote.known_hosts import KnownHosts

        return {"host_key_policy": KnownHosts()}
    # What it lists is what is there now.
    return {"use_listings_cache": False}


def url_of(url: str, path: str) -> str:
    """Return the URL of an object by its path, at the place of another."""
    scheme = scheme_of(url)
    if scheme in _WITH_HOST:
        return f"{scheme}://{url.partition('://')[2].partition('/')[0]}/{path.lstrip('/')}"
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
        raise kind(f"{without_user(url)}: is not there; check the name") from error
    except PermissionError as error:
        raise kind(f"{without_user(url)}: may not be reached: {_first_line(error)}") from error
    except Exception as error:
        # Each store has errors of its own.
        if isinstance(error, (OSError, ValueError)) or type(error).__module__.partition(".")[0] in _STORES:
            raise kind(f"{without_user(url)}: {_first_line(error) or type(error).__name__}") from error
        raise


_STORES = frozenset(
    ("botocore", "aiobotocore", "aiohttp", "gcsfs", "azure", "ftplib", "paramiko", "smbprotocol", "asyncio")
)


def _first_line(error: Exception) -> str:
    return (str(error).splitlines() or [""])[0]
