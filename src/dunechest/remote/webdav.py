"""WebDAV (RFC 4918), by fsspec and webdav4: always over TLS, unless the server is this computer itself."""

from __future__ import annotations

import contextlib
import io
import ssl
from collections.abc import Iterable, Iterator
from typing import Any
from urllib.parse import quote

import httpx
from webdav4.client import Client, HTTPError, ResourceNotFound
from webdav4.fsspec import WebdavFileSystem

from dunechest.errors import ServerError
from dunechest.remote.address import Address, own_file
from dunechest.remote.store import BESIDE, CHUNK, Store, unreachable

_PATIENCE = 60.0


class WebdavStore(Store):
    """A folder on a WebDAV server."""

    def __init__(self, address: Address, password: str | None) -> None:
        super().__init__(address, password)
        scheme = "http" if address.plain and "certificate" not in address.options else "https"
        port = f":{address.port}" if address.port is not None else ""
        certificate = address.options.get("certificate")
        try:
            verify: Any = ssl.create_default_context(cafile=str(own_file(certificate))) if certificate else True
        except OSError as error:
            raise unreachable(address, f"the certificate cannot be read: {error.strerror}") from error
        auth = (address.user, password) if address.user and password is not None else None
        self._client = Client(
            f"{scheme}://{address.host}{port}",
            auth=auth,
            verify=verify,
            timeout=_PATIENCE,
            retry=False,
            follow_redirects=False,
        )
        self._fs = WebdavFileSystem(f"{scheme}://{address.host}{port}", client=self._client)
        self._do(self._client.exists, "/")

    def close(self) -> None:
        """End the connection."""
        self._client.http.close()

    def _at(self, path: str) -> str:
        """Return a path from the top of the server on, as it stands in an address."""
        return quote(f"{self.address.folder}/{path}".strip("/"))

    def _do(self, call: Any, *words: Any, **named: Any) -> Any:
        try:
            return call(*words, **named)
        except ResourceNotFound as error:
            raise FileNotFoundError(2, "there is no such file", str(error.path)) from error
        except FileNotFoundError:
            raise
        except HTTPError as error:
            status = error.response.status_code
            if status in (401, 403):
                who = self.address.user or "you"
                raise ServerError(13, f"{self.address.server} does not let {who} in (status {status})") from error
            if status == 507:
                raise ServerError(28, f"{self.address.server} has no room left") from error
            raise unreachable(self.address, f"status {status} for {error.request.method}") from error
        except ServerError:
            raise
        except (io.UnsupportedOperation, httpx.InvalidURL):
            raise
        except Exception as error:  # what the package itself raises, of a class of its own for each
            raise unreachable(self.address, error) from error

    def listing(self, folder: str) -> tuple[dict[str, int], set[str]]:
        """Return the bytes of each file below a folder, and the folders."""
        files: dict[str, int] = {}
        folders: set[str] = set()
        lead = self.address.folder
        open_folders = [folder]
        while open_folders:
            here = open_folders.pop()
            try:
                entries = self._do(self._fs.ls, self._at(here), detail=True)
            except FileNotFoundError:
                continue
            folders.add(here)
            for entry in entries:
                path = entry["name"].strip("/")
                path = path[len(lead) + 1 :] if lead else path
                if path == here or not path.startswith(f"{here}/" if here else ""):
                    continue
                if entry["type"] == "directory":
                    open_folders.append(path)
                else:
                    files[path] = int(entry.get("size") or 0)
        return files, folders

    def size(self, path: str) -> int | None:
        """Return the bytes of a file; None if there is none."""
        try:
            info = self._do(self._fs.info, self._at(path))
        except FileNotFoundError:
            return None
        return int(info.get("size") or 0) if info["type"] == "file" else None

    def read(self, path: str, offset: int = 0) -> Iterator[bytes]:
        """Yield the bytes of a file from a place on."""
        url = self._client.join_url(self._at(path))
        headers = {"Accept-Encoding": "identity"} | ({"Range": f"bytes={offset}-"} if offset else {})
        with contextlib.ExitStack() as stack:
            answer = self._do(stack.enter_context, self._client.http.stream("GET", url, headers=headers))
            if answer.status_code == 404:
                raise FileNotFoundError(2, "there is no such file", path)
            if answer.status_code == 416:  # all of it had come
                return
            if answer.status_code not in (200, 206):
                raise unreachable(self.address, f"status {answer.status_code} for GET")
            skip = offset if answer.status_code == 200 else 0
            pieces = answer.iter_bytes(CHUNK)
            while (piece := self._do(next, pieces, None)) is not None:
                if skip:
                    skip, piece = max(0, skip - len(piece)), piece[skip:]
                if piece:
                    yield piece

    def write(self, path: str, chunks: Iterable[bytes], size: int, begun: int = 0) -> None:
        """Write a file beside its place, then give it its name."""
        beside = self._at(path + BESIDE)
        url = self._client.join_url(beside)
        answer = self._do(
            self._client.http.put, url, content=_Sized(chunks, size), headers={"Content-Length": str(size)}
        )
        if answer.status_code not in (200, 201, 204):
            raise self._refusal(answer.status_code, "PUT")
        there = self.size(path + BESIDE)
        if there != size:
            raise unreachable(self.address, f"{size:,} bytes were sent and {there or 0:,} are there")
        self._do(self._client.move, beside, self._at(path), overwrite=True)

    def _refusal(self, status: int, method: str) -> ServerError:
        if status == 507:
            return ServerError(28, f"{self.address.server} has no room left")
        if status in (401, 403):
            return ServerError(
                13, f"{self.address.server} does not let {self.address.user or 'you'} do that (status {status})"
            )
        return unreachable(self.address, f"status {status} for {method}")

    def create(self, path: str, content: bytes) -> bool:
        """Make a small file; False if there is one (RFC 9110, section 13.1.2)."""
        url = self._client.join_url(self._at(path))
        answer = self._do(self._client.http.put, url, content=content, headers={"If-None-Match": "*"})
        if answer.status_code == 412:
            return False
        if answer.status_code not in (200, 201, 204):
            raise self._refusal(answer.status_code, "PUT")
        return True

    def move(self, old: str, new: str) -> None:
        """Give a file another name."""
        self._do(self._client.move, self._at(old), self._at(new), overwrite=True)

    def move_folder(self, old: str, new: str) -> None:
        """Give a folder another name."""
        self._do(self._client.move, self._at(old), self._at(new), overwrite=False)

    def remove(self, path: str) -> None:
        """Remove a file."""
        try:
            self._do(self._client.remove, self._at(path))
        except FileNotFoundError:
            pass

    def make_folder(self, path: str) -> None:
        """Make a folder and those above it."""
        done = ""
        for piece in self._at(path).split("/"):
            done = f"{done}/{piece}".strip("/")  # quoted already
            if done and not self._do(self._client.exists, done):
                self._do(self._client.mkdir, done)

    def remove_folder(self, path: str) -> None:
        """Remove an empty folder: a server would remove all that is in it, too."""
        files, folders = self.listing(path)
        if files or len(folders) > 1:
            raise unreachable(self.address, f"{path} is not empty")
        try:
            self._do(self._client.remove, self._at(path))
        except FileNotFoundError:
            pass


class _Sized:
    """Bytes that are sent one after the other, and never more or fewer than were told."""

    def __init__(self, chunks: Iterable[bytes], size: int) -> None:
        self._chunks, self._size = chunks, size

    def __iter__(self) -> Iterator[bytes]:
        sent = 0
        for piece in self._chunks:
            sent += len(piece)
            if sent > self._size:
                raise io.UnsupportedOperation("the file grew while it was sent")
            yield piece
