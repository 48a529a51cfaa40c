"""SFTP, with the host's key known beforehand: whoever answers to the name of a host is not yet that host."""

from __future__ import annotations

import base64
import hashlib
from typing import Any

import paramiko
from fsspec.implementations.sftp import SFTPFileSystem

from nomotheta.errors import ElsewhereError


class _Known(paramiko.MissingHostKeyPolicy):  # type: ignore[misc]
    """Takes the key whose fingerprint is declared, as `ssh-keygen -l` writes it, and no other."""

    def __init__(self, declared: str | None) -> None:
        self.declared = declared

    def missing_host_key(self, _client: Any, hostname: str, key: Any) -> None:
        """Refuse a key that is not declared."""
        found = "SHA256:" + base64.b64encode(hashlib.sha256(key.asbytes()).digest()).decode().rstrip("=")
        if found != self.declared:
            raise ElsewhereError(
                f"the key of {hostname} is not known: {found}", where=f"sftp://{hostname}",
                mend="check that it is the host's; add it to known_hosts, or write host_key under [stores] options",
            )  # fmt: skip


class _Sftp(SFTPFileSystem):  # type: ignore[misc]
    """As the library has it, but for the keys of hosts, of which it takes any."""

    def _connect(self) -> None:
        settings = dict(self.ssh_kwargs)
        self.client = paramiko.SSHClient()
        self.client.load_system_host_keys()
        self.client.set_missing_host_key_policy(_Known(settings.pop("host_key", None)))
        self.client.connect(self.host, **settings)
        self.ftp = self.client.open_sftp()


def opened(host: str, options: dict[str, Any]) -> Any:
    """The file system of `user@host:port`."""
    user, _, address = host.rpartition("@")
    name, _, port = address.partition(":")
    named = ({"username": user} if user else {}) | ({"port": int(port)} if port else {})
    return _Sftp(name, skip_instance_cache=True, **named, **options)
