"""OpenSSH's own server, started by the tests on a free port of this computer with keys of its own, and stopped by them."""

from __future__ import annotations

import os
import shutil
import signal
import socket
import subprocess
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import NamedTuple

import pytest


class SftpServer(NamedTuple):
    """A running server: its port, the folder that it serves, the list of its host key, and the key that lets one in."""

    port: int
    folder: Path
    known: Path
    key: Path
    process: subprocess.Popen[bytes]
    top: Path

    def address(self, folder: str = "chests") -> str:
        """Return the address of a folder on it."""
        place = f"{self.folder}/{folder}".lstrip("/")
        user = os.environ.get("USER") or "root"
        return f"sftp://{user}@localhost:{self.port}//{place}?known-hosts={self.known}&key={self.key}"


def free_port() -> int:
    """Return a port on which nobody listens."""
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        return int(free.getsockname()[1])


def start(top: Path, port: int, *extra: str) -> subprocess.Popen[bytes]:
    """Start the server with what is in a folder."""
    sshd = shutil.which("sshd") or "/usr/sbin/sshd"
    with (top / "log").open("ab") as log:
        return subprocess.Popen(
            [sshd, "-D", "-e", "-f", str(top / "config"), "-p", str(port), *extra],
            stderr=log,
            stdout=subprocess.DEVNULL,
        )


def wait_for(port: int) -> None:
    """Return when somebody listens on a port."""
    for _ in range(200):
        with socket.socket() as asked:
            if asked.connect_ex(("127.0.0.1", port)) == 0:
                return
        time.sleep(0.05)
    raise AssertionError("the server does not listen")


@contextmanager
def sftp_server() -> Iterator[SftpServer]:
    """Run a server while the block runs; skip the test where there is none."""
    sshd = shutil.which("sshd") or "/usr/sbin/sshd"
    if not os.path.exists(sshd) or os.name != "posix" or os.geteuid() != 0:
        pytest.skip("no OpenSSH server is installed, or one is not root")
    pytest.importorskip("paramiko")
    top = Path(tempfile.mkdtemp(prefix="dune-ssh-", dir="/tmp"))
    top.chmod(0o755)
    served = top / "served"
    served.mkdir()
    os.makedirs("/run/sshd", exist_ok=True)
    for name in ("host", "user"):
        subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(top / name)], check=True)
    shutil.copy(top / "user.pub", top / "authorized")
    (top / "config").write_text(
        f"HostKey {top}/host\nAuthorizedKeysFile {top}/authorized\nListenAddress 127.0.0.1\nPidFile {top}/pid\n"
        "PasswordAuthentication no\nKbdInteractiveAuthentication no\nUsePAM no\nStrictModes no\nPermitRootLogin yes\n"
        "Subsystem sftp internal-sftp\nMaxSessions 50\nMaxStartups 100\n"
    )
    port = free_port()
    key = (top / "host.pub").read_text().split()
    (top / "known").write_text(f"[localhost]:{port} {key[0]} {key[1]}\n")
    process = start(top, port)
    try:
        wait_for(port)
        yield SftpServer(port, served, top / "known", top / "user", process, top)
    finally:
        process.send_signal(signal.SIGTERM)
        process.wait()
        shutil.rmtree(top, ignore_errors=True)
