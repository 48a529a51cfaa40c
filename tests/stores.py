"""Stand-ins for where files come from: an object store, an SFTP server and a web server, on this machine alone."""

from __future__ import annotations

import base64
import contextlib
import functools
import hashlib
import http.server
import os
import socket
import threading
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import boto3
import paramiko
from moto.server import ThreadedMotoServer

KEYS = {"aws_access_key_id": "clerk", "aws_secret_access_key": "s3cret-key", "region_name": "eu-north-1"}


class Bucket:
    """A bucket of the object store, as a folder."""

    def __init__(self, endpoint: str, name: str) -> None:
        self.client = boto3.client("s3", endpoint_url=endpoint, **KEYS)
        self.endpoint, self.name, self.url = endpoint, name, f"s3://{name}/in"
        self.client.create_bucket(Bucket=name, CreateBucketConfiguration={"LocationConstraint": "eu-north-1"})

    def put(self, name: str, content: bytes) -> None:
        self.client.put_object(Bucket=self.name, Key=f"in/{name}", Body=content)

    def names(self) -> list[str]:
        found = self.client.list_objects_v2(Bucket=self.name).get("Contents", [])
        return sorted(each["Key"].removeprefix("in/") for each in found)

    @property
    def options(self) -> str:
        keys = 'key = "clerk", secret = "${STORE_SECRET}"'
        return f'{{ {keys}, client_kwargs = {{ endpoint_url = "{self.endpoint}", region_name = "eu-north-1" }} }}'


class Folder:
    """A folder that a server offers."""

    def __init__(self, root: Path, url: str, options: str) -> None:
        self.root, self.url, self.options = root, url, options

    def put(self, name: str, content: bytes) -> None:
        (self.root / name).write_bytes(content)

    def names(self) -> list[str]:
        return sorted(path.name for path in self.root.iterdir())


@contextlib.contextmanager
def object_store() -> Iterator[Bucket]:
    server = ThreadedMotoServer(ip_address="127.0.0.1", port=0, verbose=False)
    server.start()
    host, port = server.get_host_and_port()
    try:
        yield Bucket(f"http://{host}:{port}", f"skerry-{os.urandom(4).hex()}")
    finally:
        server.stop()


@contextlib.contextmanager
def web_server(root: Path, *, silent: bool = False) -> Iterator[Folder]:
    """A silent one tells nothing of when a file was written."""

    class Quiet(http.server.SimpleHTTPRequestHandler):
        def send_header(self, keyword: str, value: str) -> None:
            if not (silent and keyword == "Last-Modified"):
                super().send_header(keyword, value)

        def log_message(self, *_: Any) -> None:
            pass

    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), functools.partial(Quiet, directory=str(root)))
    threading.Thread(target=server.serve_forever, daemon=True).start()
    try:
        yield Folder(root, f"http://127.0.0.1:{server.server_port}", "{}")
    finally:
        server.shutdown()
        server.server_close()


class _Clerk(paramiko.ServerInterface):
    def check_auth_password(self, username: str, password: str) -> int:
        right = (username, password) == ("clerk", "s3cret-key")
        return paramiko.AUTH_SUCCESSFUL if right else paramiko.AUTH_FAILED

    def check_channel_request(self, *_: Any) -> int:
        return paramiko.OPEN_SUCCEEDED

    def get_allowed_auths(self, _username: str) -> str:
        return "password"


class _Handle(paramiko.SFTPHandle):
    def stat(self) -> Any:
        return paramiko.SFTPAttributes.from_stat(os.fstat(self.readfile.fileno()))  # type: ignore[attr-defined]


class _Files(paramiko.SFTPServerInterface):
    root = Path()

    def _at(self, path: str) -> Path:
        return self.root / self.canonicalize(path).lstrip("/")

    def list_folder(self, path: str) -> Any:
        try:
            return [self._told(each) for each in sorted(self._at(path).iterdir())]
        except OSError as error:
            return paramiko.SFTPServer.convert_errno(error.errno or 0)

    def _told(self, path: Path) -> Any:
        told = paramiko.SFTPAttributes.from_stat(path.stat())
        told.filename = path.name
        return told

    def stat(self, path: str) -> Any:
        try:
            return paramiko.SFTPAttributes.from_stat(self._at(path).stat())
        except OSError as error:
            return paramiko.SFTPServer.convert_errno(error.errno or 0)

    lstat = stat

    def open(self, path: str, flags: int, _attr: Any) -> Any:
        try:
            handle = _Handle(flags)
            handle.readfile = self._at(path).open("rb")  # type: ignore[attr-defined]
        except OSError as error:
            return paramiko.SFTPServer.convert_errno(error.errno or 0)
        return handle

    def remove(self, path: str) -> int:
        try:
            self._at(path).unlink()
        except OSError as error:
            return paramiko.SFTPServer.convert_errno(error.errno or 0)
        return paramiko.SFTP_OK


@contextlib.contextmanager
def sftp_server(root: Path) -> Iterator[Folder]:
    key, listening = paramiko.RSAKey.generate(2048), socket.create_server(("127.0.0.1", 0))
    files, transports = type("Files", (_Files,), {"root": root}), list[paramiko.Transport]()

    def serve() -> None:
        with contextlib.suppress(OSError):
            while True:
                connection, _ = listening.accept()
                transport = paramiko.Transport(connection)
                transports.append(transport)
                transport.add_server_key(key)
                transport.set_subsystem_handler("sftp", paramiko.SFTPServer, files)
                with contextlib.suppress(paramiko.SSHException, EOFError):
                    transport.start_server(server=_Clerk())

    threading.Thread(target=serve, daemon=True).start()
    known = "SHA256:" + base64.b64encode(hashlib.sha256(key.asbytes()).digest()).decode().rstrip("=")
    options = f'{{ password = "${{STORE_SECRET}}", host_key = "{known}", look_for_keys = false, allow_agent = false }}'
    try:
        yield Folder(root, f"sftp://clerk@127.0.0.1:{listening.getsockname()[1]}", options)
    finally:
        listening.close()
        for transport in transports:
            transport.close()
