"""SFTP (RFC 4251 to 4254, and the drafts of the file protocol, version 3), by fsspec and paramiko."""

from __future__ import annotations

import errno
import posixpath
import stat
import threading
from collections.abc import Iterable, Iterator
from contextlib import AbstractContextManager, contextmanager, suppress
from pathlib import Path
from typing import Any

import paramiko
from fsspec.implementations.sftp import SFTPFileSystem

from dunechest.errors import ServerError
from dunechest.names import shown
from dunechest.remote.address import Address, own_file
from dunechest.remote.store import BESIDE, CHUNK, Own, Store, unreachable

#: Seconds that a server has to answer.
_PATIENCE = 20.0


class _Verifying(SFTPFileSystem):  # type: ignore[misc]
    """fsspec's file system, which would believe every host key, with a connection that believes only known ones."""

    cachable = False

    def __init__(self, host: str, client: paramiko.SSHClient) -> None:
        self._given = client
        super().__init__(host)

    def _connect(self) -> None:
        self.client = self._given
        self.ftp = self.client.open_sftp()


class SftpStore(Store):
    """A folder on an SFTP server."""

    continues = True

    def __init__(self, address: Address, password: str | None) -> None:
        super().__init__(address, password)
        self._own = Own()
        self._lock = threading.Lock()
        self._closed = False
        self._make()
        try:
            self._top = "/" if address.absolute else self._fs.ftp.normalize(".")
        except (paramiko.SSHException, OSError, EOFError) as error:
            raise unreachable(address, error) from error

    def _make(self) -> None:
        self._client = _connect(self.address, self.password)
        try:
            self._fs = _Verifying(self.address.host, self._client)
        except (paramiko.SSHException, OSError, EOFError) as error:
            raise unreachable(self.address, error) from error

    def close(self) -> None:
        """End the connection."""
        self._closed = True
        self._client.close()

    def _again(self) -> None:
        """Make the connection again if it ended; once, however many threads have noticed."""
        with self._lock:
            transport = self._client.get_transport()
            if (transport is None or not transport.is_active()) and not self._closed:
                self._client.close()
                self._make()

    def _at(self, path: str) -> str:
        return posixpath.join(self._top, self.address.folder, path).rstrip("/")

    @property
    def _ftp(self) -> paramiko.SFTPClient:
        """A channel of this thread's own: requests and answers of several would wait for each other."""
        known: tuple[paramiko.SSHClient, paramiko.SFTPClient] | None = self._own.what
        if known is None or known[0] is not self._client or not _lives(self._client):
            self._again()
            try:
                channel = self._client.open_sftp()
            except (paramiko.SSHException, OSError, EOFError) as error:
                raise unreachable(self.address, error or "the connection ended") from error
            told = channel.get_channel()
            if told is not None:
                told.settimeout(_PATIENCE * 3)
            known = self._own.what = (self._client, channel)
        return known[1]

    def _do(self, call: Any, *words: Any) -> Any:
        try:
            return call(*words)
        except OSError as error:
            if isinstance(error, ServerError) or error.errno in (errno.ENOENT, errno.EACCES):
                raise
            raise unreachable(self.address, error) from error
        except (paramiko.SSHException, EOFError) as error:
            raise unreachable(self.address, error or "the connection ended") from error

    @contextmanager
    def _closing(self, file: paramiko.SFTPFile) -> Iterator[paramiko.SFTPFile]:
        """Close a file at the end; a connection that ended meanwhile ends the closing, too."""
        try:
            yield file
        except BaseException:
            # What went wrong first is what is told.
            with suppress(OSError):
                self._do(file.close)
            raise
        self._do(file.close)

    def _opened(self, path: str, mode: str) -> AbstractContextManager[paramiko.SFTPFile]:
        return self._closing(self._do(self._ftp.open, path, mode))

    def listing(self, folder: str) -> tuple[dict[str, int], set[str]]:
        """Return the bytes of each regular file below a folder, and the folders."""
        files: dict[str, int] = {}
        folders: set[str] = set()
        open_folders = [folder]
        while open_folders:
            here = open_folders.pop()
            try:
                entries = self._do(self._ftp.listdir_attr, self._at(here))
            except FileNotFoundError:
                continue
            folders.add(here)
            for entry in entries:
                path = f"{here}/{entry.filename}" if here else entry.filename
                mode = entry.st_mode or 0
                if stat.S_ISDIR(mode):
                    open_folders.append(path)
                elif stat.S_ISREG(mode):
                    files[path] = entry.st_size or 0
        return files, folders

    def size(self, path: str) -> int | None:
        """Return the bytes of a file; None if there is none."""
        try:
            info = self._do(self._ftp.lstat, self._at(path))
        except FileNotFoundError:
            return None
        return (info.st_size or 0) if stat.S_ISREG(info.st_mode or 0) else None

    def read(self, path: str, offset: int = 0) -> Iterator[bytes]:
        """Yield the bytes of a file from a place on."""
        with self._opened(self._at(path), "rb") as file:
            size = self._do(file.stat).st_size or 0
            if offset:
                file.seek(offset)
            else:
                self._do(file.prefetch, size, 64)
            while piece := self._do(file.read, CHUNK):
                yield piece

    def begun(self, path: str) -> int:
        """Return how many bytes of a file were sent before the transfer ended early."""
        return self.size(path + BESIDE) or 0

    def write(self, path: str, chunks: Iterable[bytes], size: int, begun: int = 0) -> None:
        """Write a file beside its place, then give it its name."""
        beside = self._at(path + BESIDE)
        with self._opened(beside, "ab" if begun else "wb") as file:
            file.set_pipelined(True)
            for piece in chunks:
                self._do(file.write, piece)
        there = self._do(self._ftp.lstat, beside).st_size
        if there != size:
            raise unreachable(self.address, f"{size:,} bytes were sent and {there:,} are there")
        self._do(self._ftp.posix_rename, beside, self._at(path))

    def create(self, path: str, content: bytes) -> bool:
        """Make a small file; False if there is one."""
        try:
            file = self._ftp.open(self._at(path), "wx")
        except OSError as error:
            if self.size(path) is not None:
                return False
            raise unreachable(self.address, error) from error
        except (paramiko.SSHException, EOFError) as error:
            raise unreachable(self.address, error) from error
        with self._closing(file):
            self._do(file.write, content)
        return True

    def move(self, old: str, new: str) -> None:
        """Give a file another name."""
        self._do(self._ftp.posix_rename, self._at(old), self._at(new))

    def move_folder(self, old: str, new: str) -> None:
        """Give a folder another name."""
        self._do(self._ftp.posix_rename, self._at(old), self._at(new))

    def remove(self, path: str) -> None:
        """Remove a file."""
        try:
            self._do(self._ftp.remove, self._at(path))
        except FileNotFoundError:
            pass

    def make_folder(self, path: str) -> None:
        """Make a folder and those above it."""
        self._again()
        self._do(self._fs.makedirs, self._at(path), True)

    def remove_folder(self, path: str) -> None:
        """Remove an empty folder."""
        try:
            self._do(self._ftp.rmdir, self._at(path))
        except FileNotFoundError:
            pass


def _lives(client: paramiko.SSHClient) -> bool:
    transport = client.get_transport()
    return transport is not None and transport.is_active()


def _connect(address: Address, password: str | None) -> paramiko.SSHClient:
    """Connect to a server whose host key is known.

    Raises
    ------
    ServerError
        If it does not answer, its key is another one or not known, or it does not let one in.
    """
    client = paramiko.SSHClient()
    named = address.options.get("known-hosts")
    try:
        if named:
            client.load_host_keys(str(own_file(named)))
        else:
            client.load_system_host_keys()
            system = Path("/etc/ssh/ssh_known_hosts")
            if system.is_file():
                client.load_system_host_keys(str(system))
    except (OSError, paramiko.SSHException) as error:
        raise unreachable(address, f"the list of known host keys cannot be read: {error}") from error
    client.set_missing_host_key_policy(_Refuse())
    key = address.options.get("key")
    try:
        client.connect(
            address.host,
            port=address.port or 22,
            username=address.user or None,
            password=password,
            key_filename=str(own_file(key)) if key else None,
            passphrase=password if key else None,
            timeout=_PATIENCE,
            banner_timeout=_PATIENCE,
            auth_timeout=_PATIENCE,
            channel_timeout=_PATIENCE,
        )
    except paramiko.BadHostKeyException as error:
        raise unreachable(
            address,
            "its host key is another one than the one that this computer knows. Either the server was set up again, or "
            "somebody is between you and it. Nothing was sent.",
        ) from error
    except paramiko.AuthenticationException as error:
        who = address.user or "you"
        raise ServerError(errno.EACCES, f"{address.host} does not let {who} in (wrong password or key)") from error
    except (paramiko.SSHException, OSError, EOFError) as error:
        if isinstance(error, ServerError):
            raise
        if "No authentication methods available" in str(error):
            raise ServerError(errno.EACCES, f"{address.host} asks for a password or a key") from error
        raise unreachable(address, error or "the connection ended") from error
    return client


class _Refuse(paramiko.MissingHostKeyPolicy):
    """A key that nobody has said is right is not believed."""

    def missing_host_key(self, client: paramiko.SSHClient, hostname: str, key: paramiko.PKey) -> None:
        raise ServerError(
            errno.ECONNREFUSED,
            f"this computer does not know the host key of {shown(hostname)} ({key.get_name()}, {key.fingerprint}). Nothing was "
            "sent. Compare it with what whoever looks after the server says; to have it known, connect once with ssh",
        )
