"""Which machines are spoken to by SSH: those whose keys are known, as ssh itself has it."""

from __future__ import annotations

from pathlib import Path

import paramiko

from tessaron.core.base.errors import SourceError

_FILES = ("~/.ssh/known_hosts", "/etc/ssh/ssh_known_hosts")


class KnownHosts(paramiko.MissingHostKeyPolicy):  # type: ignore[misc]  # paramiko has no types
    """Takes a host whose key stands in the files of known hosts, and no other."""

    def missing_host_key(self, client: paramiko.SSHClient, hostname: str, key: paramiko.PKey) -> None:
        """Look for the key of a host.

        Raises:
            SourceError: When it is not known, or another is.
        """
        known = paramiko.HostKeys()
        for path in (Path(name).expanduser() for name in _FILES):
            if path.is_file():
                known.load(str(path))
        if known.check(hostname, key):
            return
        is_other = known.lookup(hostname) is not None
        said = "has another key than the one that is known" if is_other else "is not a known host"
        raise SourceError(
            f"{hostname}: {said} ({key.get_name()} {key.fingerprint}); "
            f"ask who runs it, then write its key into {_FILES[0]}, as ssh does"
        )
