"""A real PostgreSQL server, started by the tests on a socket of its own in a folder of its own, and stopped by them."""

from __future__ import annotations

import itertools
import os
import shutil
import socket
import subprocess
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import NamedTuple

import pytest

#: Who may do everything on the test's server, without a password, through its socket.
KEEPER = "keeper"
_HBA = """
local all keeper trust
local all all scram-sha-256
hostssl all all 127.0.0.1/32 scram-sha-256
"""
_SETTINGS = """
listen_addresses = '127.0.0.1'
unix_socket_directories = '{folder}'
port = {port}
fsync = off
shared_buffers = 64MB
max_connections = 60
log_min_messages = warning
ssl = {ssl}
"""
_numbers = itertools.count(1)


class Server(NamedTuple):
    """A running server: the folder of its socket, its port, the certificate that vouches for it, and its programs."""

    folder: Path
    port: int
    root: Path | None
    programs: Path

    def address(self, role: str, database: str) -> str:
        """Return the address of a database through the socket."""
        return f"postgresql+psycopg://{role}@/{database}?host={self.folder}&port={self.port}"

    def remote(self, role: str, database: str, *, host: str = "localhost", root: Path | None = None) -> str:
        """Return the address of a database through TCP with TLS."""
        return f"postgresql+psycopg://{role}@{host}:{self.port}/{database}?sslrootcert={root or self.root}"

    def new_database(self) -> str:
        """Make a database, and return its name."""
        import psycopg

        name = f"office{next(_numbers)}"
        with psycopg.connect(
            host=str(self.folder), port=self.port, user=KEEPER, dbname="postgres", autocommit=True
        ) as connection:
            connection.execute(f"CREATE DATABASE {name}")  # type: ignore[call-overload]
        return name


def _programs() -> Path | None:
    found = sorted(Path("/usr/lib/postgresql").glob("*/bin/initdb")) if os.name == "posix" else []
    if found:
        return found[-1].parent
    other = shutil.which("initdb")
    return Path(other).parent if other else None


def _account() -> tuple[int, int] | None:
    """Return whom the server runs as: it refuses to be root."""
    import pwd

    if os.getuid() != 0:
        return None
    own = pwd.getpwnam("postgres")
    return own.pw_uid, own.pw_gid


def certificate(folder: Path, name: str, host: str) -> tuple[Path, Path]:
    """Make a certificate for a host that vouches for itself; return it and its key."""
    made, key = folder / f"{name}.crt", folder / f"{name}.key"
    subprocess.run(
        ["openssl", "req", "-x509", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:prime256v1", "-nodes", "-days", "3",
         "-subj", f"/CN={host}", "-addext", f"subjectAltName=DNS:{host}", "-keyout", key, "-out", made],
        check=True, capture_output=True,
    )  # fmt: skip
    key.chmod(0o600)
    return made, key


@contextmanager
def server(settings: str = "", top: str = "/tmp") -> Iterator[Server]:
    """Run a server while the block runs; skip the test where there is none.

    Parameters
    ----------
    settings : str
        Lines that are added to the server's settings.
    top : str
        Where its folder is made.
    """
    programs = _programs() if os.name == "posix" else None
    if programs is None:
        pytest.skip("no PostgreSQL server is installed")
    pytest.importorskip("psycopg")
    import pwd

    try:
        pwd.getpwuid(os.getuid())
        account = _account()
    except KeyError:
        pytest.skip("PostgreSQL runs as nobody without a name")
    folder = Path(tempfile.mkdtemp(prefix="dune-postgres-", dir=top))
    folder.chmod(0o755)
    free = socket.socket()
    free.bind(("127.0.0.1", 0))
    port = free.getsockname()[1]
    free.close()
    data = folder / "data"
    tls = shutil.which("openssl") is not None
    root = certificate(folder, "server", "localhost")[0] if tls else None
    if account:
        for path in (folder, *folder.iterdir()):
            os.chown(path, *account)

    def run(*words: object, check: bool = True) -> None:
        subprocess.run(
            [str(word) for word in words], check=check, capture_output=True, cwd=folder, timeout=60,
            user=account[0] if account else None, group=account[1] if account else None,
            extra_groups=[] if account else None, env={"PATH": os.environ["PATH"], "LC_ALL": "C.UTF-8"},
        )  # fmt: skip

    try:
        run(programs / "initdb", "-D", data, "-U", KEEPER, "--no-sync", "-E", "UTF8", "--auth=trust")
        (data / "pg_hba.conf").write_text(_HBA)
        with (data / "postgresql.conf").open("a") as conf:
            conf.write(_SETTINGS.format(folder=folder, port=port, ssl="on" if tls else "off") + settings + "\n")
            if tls:
                conf.write(f"ssl_cert_file = '{folder}/server.crt'\nssl_key_file = '{folder}/server.key'\n")
        run(programs / "pg_ctl", "-D", data, "-w", "-l", folder / "log", "start")
        yield Server(folder, port, root, programs)
    finally:
        run(programs / "pg_ctl", "-D", data, "-m", "immediate", "stop", check=False)
        shutil.rmtree(folder, ignore_errors=True)
