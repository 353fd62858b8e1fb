"""A WebDAV server and a server of the S3 protocol, from packages, each in a process of its own on a free port."""

from __future__ import annotations

import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import NamedTuple

import pytest

from tests.support.sftp_server import free_port, wait_for

SECRET = "marram-under-the-mat"
_DAV = """
import sys
from cheroot import wsgi
from wsgidav.wsgidav_app import WsgiDAVApp
folder, port, secret, certificate = sys.argv[1:5]
app = WsgiDAVApp({
    "provider_mapping": {"/": folder}, "simple_dc": {"user_mapping": {"*": {"tern": {"password": secret}}}},
    "http_authenticator": {"accept_basic": True, "accept_digest": False, "default_to_digest": False}, "verbose": 0,
    "logging": {"enable_loggers": []}, "hotfixes": {},
})
server = wsgi.Server(("127.0.0.1", int(port)), app, numthreads=12)
if certificate:
    from cheroot.ssl.builtin import BuiltinSSLAdapter
    server.ssl_adapter = BuiltinSSLAdapter(certificate, certificate.replace(".crt", ".key"))
server.start()
"""
_S3 = """
import sys
from moto.server import main
main(["-H", "127.0.0.1", "-p", sys.argv[1]])
"""


class DavServer(NamedTuple):
    """A running WebDAV server: its port, the folder that it serves, the certificate if it has one, and its process."""

    port: int
    folder: Path
    certificate: str
    process: subprocess.Popen[bytes]

    def address(self, folder: str = "chests", *, port: int | None = None) -> str:
        """Return the address of a folder on it."""
        asked = f"?certificate={self.certificate}" if self.certificate else ""
        return f"webdav://tern@localhost:{port or self.port}/{folder}{asked}"


@contextmanager
def dav_server(certificate: str = "") -> Iterator[DavServer]:
    """Run a WebDAV server while the block runs."""
    for package in ("wsgidav", "cheroot", "webdav4"):
        pytest.importorskip(package)
    folder = Path(tempfile.mkdtemp(prefix="dune-dav-"))
    port = free_port()
    process = subprocess.Popen(
        [sys.executable, "-W", "ignore", "-c", _DAV, str(folder), str(port), SECRET, certificate],
        stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
    )  # fmt: skip
    try:
        wait_for(port)
        yield DavServer(port, folder, certificate, process)
    finally:
        process.kill()
        process.wait()
        shutil.rmtree(folder, ignore_errors=True)


class S3Server(NamedTuple):
    """A running server of the S3 protocol, with a bucket."""

    port: int
    process: subprocess.Popen[bytes]

    def address(self, folder: str = "chests", *, port: int | None = None) -> str:
        """Return the address of a folder in the bucket."""
        return f"s3://dunes/{folder}?endpoint=http://127.0.0.1:{port or self.port}&key=tern&region=us-east-1"


@contextmanager
def s3_server() -> Iterator[S3Server]:
    """Run a server of the S3 protocol while the block runs."""
    for package in ("moto", "s3fs", "flask"):
        pytest.importorskip(package)
    port = free_port()
    process = subprocess.Popen(
        [sys.executable, "-W", "ignore", "-c", _S3, str(port)], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
    )
    try:
        wait_for(port)
        subprocess.run(
            [sys.executable, "-c",
             "import s3fs, sys; s3fs.S3FileSystem(key='tern', secret=sys.argv[2], endpoint_url=f'http://127.0.0.1:{sys.argv[1]}', "
             "client_kwargs={'region_name': 'us-east-1'}).call_s3('create_bucket', Bucket='dunes')", str(port), SECRET],
            check=True, capture_output=True,
        )  # fmt: skip
        yield S3Server(port, process)
    finally:
        process.kill()
        process.wait()
