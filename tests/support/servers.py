"""Servers of each protocol behind one face, a computer that is killed or counts what it does, and a proxy that does harm."""

from __future__ import annotations

import os
import re
import socket
import subprocess
import sys
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any, NamedTuple

import pytest

from dunechest.remote.address import address_of
from dunechest.remote.store import Store
from tests.support.dav_server import SECRET, dav_server, s3_server
from tests.support.sftp_server import free_port, sftp_server

PROTOCOLS = ("sftp", "webdav", "s3")
#: The smallest parts that the S3 protocol allows: a file need not be large to go in several.
PART = 5 << 20
#: Runs the command line; what is done on the server is counted, and before one of the operations the process is killed.
_COMPUTER = """
import os, signal, sys
stop, words = int(sys.argv[1]), sys.argv[2:]
from dunechest.remote import chest, place, protocols
place._PAUSES = (0.1, 0.2)
if any(word.startswith("s3:") for word in words):
    from dunechest.remote import s3
    s3._PART = 5 << 20
count = sent = 0
def counting(store):
    for name in ("write", "create", "move", "move_folder", "remove", "make_folder", "remove_folder"):
        def counted(*given, _call=getattr(store, name), _name=name, **named):
            global count, sent
            count += 1
            if count == stop and _name != "write":
                os.kill(os.getpid(), signal.SIGKILL)
            if _name == "write":
                path, chunks, *rest = given
                def some(chunks=chunks, last=count == stop):
                    global sent
                    for piece in chunks:
                        yield piece
                        sent += len(piece)
                        if last:
                            os.kill(os.getpid(), signal.SIGKILL)
                given = (path, some(), *rest)
            return _call(*given, **named)
        setattr(store, name, counted)
    return store
opening = protocols.open_store
chest.open_store = lambda *given: counting(opening(*given))
from dunechest.cli.app import run
status = run(words)
print(f"operations {count}, sent {sent}", file=sys.stderr)
sys.exit(status)
"""


class Server(NamedTuple):
    """A server, whichever protocol it speaks: the address of a folder on it, and what looks at it without the product."""

    protocol: str
    address: str
    port: int
    password: str | None
    folder: Path | None
    running: Any

    def store(self, folder: str = "") -> Store:
        """Speak to it as the product does, in the folder of the address or one below it."""
        from msgspec.structs import replace

        from dunechest.remote.protocols import open_store

        address = address_of(self.address)
        return open_store(replace(address, folder=f"{address.folder}/{folder}".strip("/")), self.password)

    def files(self) -> dict[str, bytes]:
        """Return all that lies in the chest, by path."""
        store = self.store("dune-chest")
        try:
            return {path: b"".join(store.read(path)) for path in store.listing("")[0]}
        finally:
            store.close()

    def put(self, path: str, content: bytes) -> None:
        """Replace a file in the chest behind the product's back."""
        store = self.store("dune-chest")
        try:
            store.make_folder(path.rpartition("/")[0])
            store.write(path, iter([content]), len(content))
        finally:
            store.close()

    def drop(self, path: str) -> None:
        """Remove a file in the chest behind the product's back."""
        store = self.store("dune-chest")
        try:
            store.remove(path)
        finally:
            store.close()

    def elsewhere(self, port: int) -> str:
        """Return the address with another port, on which something sits between."""
        return self.address.replace(f":{self.port}", f":{port}")


@contextmanager
def server_of(protocol: str, folder: str = "chests") -> Iterator[Server]:
    """Run a server while the block runs."""
    if protocol == "sftp":
        with sftp_server() as ssh:
            yield Server(protocol, ssh.address(folder), ssh.port, None, ssh.folder, ssh)
    elif protocol == "webdav":
        with dav_server() as dav:
            yield Server(protocol, dav.address(folder), dav.port, SECRET, dav.folder, dav)
    else:
        with s3_server() as s3:
            yield Server(protocol, s3.address(folder), s3.port, SECRET, None, s3)


def trust(server: Server, state: Path, *addresses: str) -> None:
    """Have a computer know the password of a server, under some addresses."""
    if server.password is None:
        return
    state.mkdir(parents=True, exist_ok=True)
    accounts = {address_of(address).account for address in (server.address, *addresses)}
    text = "".join(
        f'[servers."{account}"]\npassword_command = ["echo", "{server.password}"]\n' for account in accounts
    )
    (state / "settings.toml").write_text(text)


def computer(*words: object, stop: int = -1) -> tuple[int, str, int, int]:
    """Run a command in a process of its own; return status, what it said, how many operations it did, and bytes sent."""
    ran = subprocess.run(
        [sys.executable, "-W", "ignore", "-c", _COMPUTER, str(stop), *map(str, words)],
        capture_output=True, text=True, timeout=180, env={**os.environ}, check=False,
    )  # fmt: skip
    told = re.search(r"operations (\d+), sent (\d+)", ran.stderr)
    count, sent = (int(told.group(1)), int(told.group(2))) if told else (0, 0)
    return ran.returncode, ran.stdout + ran.stderr, count, sent


class Between:
    """Sits between a computer and a server, and lets through, changes, delays or ends what goes by.

    Parameters
    ----------
    port : int
        The server's.
    """

    def __init__(self, port: int) -> None:
        self.port = free_port()
        self._to = port
        #: What becomes of bytes on their way back and forth; the second says how many went by on that connection.
        self.back: Callable[[bytes, int], bytes] = lambda piece, before: piece
        self.forth: Callable[[bytes, int], bytes] = lambda piece, before: piece
        self._socket = socket.create_server(("127.0.0.1", self.port))
        self._ended = False
        self._open: list[socket.socket] = []
        self._thread = threading.Thread(target=self._serve, daemon=True)
        self._thread.start()

    def __enter__(self) -> Between:
        return self

    def __exit__(self, *_: object) -> None:
        self._ended = True
        self._socket.close()
        self.cut()

    def cut(self) -> None:
        """End all connections."""
        for one in self._open:
            try:
                one.shutdown(socket.SHUT_RDWR)
            except OSError:
                pass
            one.close()
        self._open.clear()

    def _serve(self) -> None:
        while not self._ended:
            try:
                near, _ = self._socket.accept()
            except OSError:
                return
            try:
                far = socket.create_connection(("127.0.0.1", self._to))
            except OSError:
                near.close()
                continue
            self._open += [near, far]
            for source, target, way in ((near, far, "forth"), (far, near, "back")):
                threading.Thread(target=self._pass, args=(source, target, way), daemon=True).start()

    def _pass(self, source: socket.socket, target: socket.socket, way: str) -> None:
        before = 0
        try:
            while piece := source.recv(1 << 16):
                told = getattr(self, way)(piece, before)
                before += len(piece)
                target.sendall(told)
        except OSError:
            pass
        for one in (source, target):
            try:
                one.shutdown(socket.SHUT_RDWR)
            except OSError:
                pass
            one.close()


def needs(protocol: str) -> None:
    """Skip a test where what it needs is not installed."""
    for package in {"sftp": ("paramiko",), "webdav": ("webdav4", "wsgidav"), "s3": ("s3fs", "moto")}[protocol]:
        pytest.importorskip(package)
