"""What can be done on a server: list, read, write, move and remove files. One module a protocol does it, by fsspec."""

from __future__ import annotations

import errno
import threading
from abc import ABC, abstractmethod
from collections.abc import Iterable, Iterator
from typing import Any

from dunechest.errors import ServerError
from dunechest.names import shown
from dunechest.remote.address import Address

#: Bytes that travel at a time.
CHUNK = 1 << 20
#: What a file is called on the server until it is whole, where the server cannot put it in place in one step.
BESIDE = ".being-sent"


class Store(ABC):
    """A folder on a server. Paths are relative to it, with slashes.

    Parameters
    ----------
    address : Address
        Where it is.
    password : str or None
        What the server is told; None if it needs none.

    Attributes
    ----------
    connections : int
        Transfers at once.
    renames_folders : bool
        Whether a folder with all in it gets another name in one step.
    continues : bool
        Whether a file that was sent in part can be continued.
    """

    connections = 4
    renames_folders = True
    continues = False

    def __init__(self, address: Address, password: str | None) -> None:
        self.address = address
        self.password = password

    @abstractmethod
    def listing(self, folder: str) -> tuple[dict[str, int], set[str]]:
        """Return the bytes of each regular file below a folder, and the folders, the folder itself among them.

        All paths are from the top of the store. Nothing is returned if there is no such folder.
        """

    @abstractmethod
    def size(self, path: str) -> int | None:
        """Return the bytes of a file; None if there is none."""

    @abstractmethod
    def read(self, path: str, offset: int = 0) -> Iterator[bytes]:
        """Yield the bytes of a file from a place on."""

    @abstractmethod
    def write(self, path: str, chunks: Iterable[bytes], size: int, begun: int = 0) -> None:
        """Write a file; with `begun` the bytes are added to those that were sent before. It has its name when it is whole."""

    def begun(self, path: str) -> int:
        """Return how many bytes of a file were sent before the transfer ended early."""
        return 0

    @abstractmethod
    def create(self, path: str, content: bytes) -> bool:
        """Make a small file; False if there is one, however closely together two try."""

    @abstractmethod
    def move(self, old: str, new: str) -> None:
        """Give a file another name; one that has that name is replaced."""

    @abstractmethod
    def move_folder(self, old: str, new: str) -> None:
        """Give a folder with all in it another name."""

    @abstractmethod
    def remove(self, path: str) -> None:
        """Remove a file; it is no error if there is none."""

    @abstractmethod
    def make_folder(self, path: str) -> None:
        """Make a folder and those above it; it is no error if there is one."""

    @abstractmethod
    def remove_folder(self, path: str) -> None:
        """Remove an empty folder; it is no error if there is none."""

    def free(self) -> int | None:
        """Return the bytes that are free, if the server says."""
        return None

    def close(self) -> None:  # noqa: B027 - not every protocol has one
        """End the connection."""


class Own(threading.local):
    """Something that each thread has for itself."""

    what: Any = None


def unreachable(address: Address, error: BaseException | str) -> ServerError:
    """Return the error for a server that does not do what it is asked for."""
    said = shown(" ".join(str(error).split())[:300]) or type(error).__name__
    return ServerError(errno.EIO, f"{shown(address.server)} does not do it: {said}")
