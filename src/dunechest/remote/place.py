"""What jobs do with a chest on a server: send files, fetch them, read them again, each proven by its digest."""

from __future__ import annotations

import errno
import os
import sys
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager
from pathlib import Path
from typing import Any

from dunechest.errors import ServerError
from dunechest.paths import prefix_of, slashed
from dunechest.remote.address import Address
from dunechest.remote.hold import hold
from dunechest.remote.store import BESIDE, CHUNK, Store
from dunechest.transfer import digests, disk, medium
from dunechest.transfer.copying import MovedError, still
from dunechest.transfer.tasks import CopyOutcome, CopyTask, DigestOutcome, DigestTask, Tell
from dunechest.transfer.whole_files import READING, WRITING_NEW, close_written, discard, system_words

#: So many times something is tried again that the server did not do, after so many seconds.
_PAUSES = (1.0, 4.0, 15.0)
#: What ends a file's name while it is written here; it is nobody's business there.
_BESIDE = ".being-written"


class ServerPlace:
    """A chest on a server, as the folder on this computer stands in for it.

    Parameters
    ----------
    folder : str
        That folder.
    address : Address
        Where the chest is.
    store : Store
        What speaks to the server.
    files : dict
        The bytes of each file there, by its path in the chest.
    folders : set of str
        The folders there.
    """

    def __init__(self, folder: str, address: Address, store: Store, files: dict[str, int], folders: set[str]) -> None:
        self.folder = folder
        self.address = address
        self.store = store
        self.files = files
        self.folders = folders
        self.kind = address.protocol
        self.identity = f"server {address.key}"
        self.drive = f"server {address.server}"
        self.where = address.text
        self.connections = store.connections
        #: Of the files there, those whose bytes are here, too; and those that are here and not there yet.
        self.here: set[str] = set()
        self._new: dict[str, None] = {}
        self._busy = threading.local()
        self._lock = threading.Lock()
        self._check: Callable[[], None] = lambda: None
        self.closed = False

    # What the workers asks for.

    def copy_in(self, task: CopyTask, sha512: bool, tell: Tell) -> CopyOutcome:
        """Send a file and read it back."""
        path = self._path(task.target)
        try:
            source = os.open(task.source, READING)
        except FileNotFoundError:
            return CopyOutcome("vanished", why="it was there at the start and is gone now")
        except OSError as error:
            return CopyOutcome("unreadable", why=system_words(error))
        try:
            opened = time.time_ns()
            before = os.fstat(source)
            for pause in (*_PAUSES, None):
                try:
                    self._check()
                    return self._send(task, path, source, before, opened, sha512, tell)
                except ServerError as error:
                    if pause is None or error.errno != errno.EIO or self.closed:
                        return CopyOutcome("cut-off", why=error.message)
                    time.sleep(pause)
                except _SourceError as error:
                    return CopyOutcome("unreadable", why=system_words(error.__cause__))
                except MovedError:
                    return CopyOutcome("changing", why="it changed while it was read")
                except OSError as error:
                    return CopyOutcome("cut-off", why=system_words(error))
            raise AssertionError("the last round returns")
        finally:
            os.close(source)

    def _send(
        self, task: CopyTask, path: str, source: int, before: os.stat_result, opened: int, sha512: bool, tell: Tell
    ) -> CopyOutcome:
        begun = self.store.begun(path) if self.store.continues else 0
        begun = begun if 0 < begun < before.st_size else 0
        reading = _Reading(source, tell, sha512, begun)
        self.store.write(path, reading, before.st_size, begun)
        if task.expect is None:
            still(source, before, reading.size, opened)
        fast = reading.fast.digest()
        if task.expect is not None and fast != task.expect:
            self.store.remove(path)
            return CopyOutcome("not-intact", reading.size, blake3=fast, why="its bytes differ from the record")
        if self._digest(path, ("blake3",), lambda count: None)[1][0] != fast:
            self.store.remove(path)
            if begun:  # what was there of it from before may be of something else
                raise ServerError(errno.EIO, "what was sent before is of another file")
            return CopyOutcome("cut-off", why="what the server gave back differs from what was sent to it")
        self._stand_in(path, before.st_size, task.mtime_ns if task.expect is not None else before.st_mtime_ns)
        slow = reading.slow.digest() if reading.slow is not None else b""
        mode = before.st_mode & 0o7777
        return CopyOutcome("ok", reading.size, before.st_mtime_ns, mode, fast, slow)

    def copy_out(self, task: CopyTask, sha512: bool, tell: Tell) -> CopyOutcome:
        """Fetch a file, and read it back from this computer's drive."""
        path = self._path(task.source)
        try:
            target = disk.create(task.target, WRITING_NEW, task.mode)
        except OSError as error:
            return CopyOutcome("cut-off", why=system_words(error))
        kept = False
        try:
            size, (fast, *slow) = self._digest(
                path, ("blake3", "sha512") if sha512 else ("blake3",), tell, lambda piece: _write(target, piece)
            )
            if task.expect is not None and fast != task.expect:
                return CopyOutcome("not-intact", size, blake3=fast, why="its bytes differ from the record")
            disk.flush_file(target)
            medium.forget(target)
            if _read_back(target) != fast:
                return CopyOutcome("cut-off", why="what the drive gave back differs from what was written to it")
            if hasattr(os, "fchmod"):
                os.fchmod(target, task.mode)
            kept = True
            return CopyOutcome("ok", size, task.mtime_ns, task.mode, fast, slow[0] if slow else b"")
        except FileNotFoundError:
            return CopyOutcome("vanished", why="it is not on the server")
        except ServerError as error:
            return CopyOutcome("cut-off", why=error.message)
        except OSError as error:
            return CopyOutcome("cut-off", why=system_words(error))
        finally:
            close_written(target)
            if kept:
                os.utime(task.target, ns=(task.mtime_ns, task.mtime_ns))
            else:
                discard(task.target)

    def digest(self, task: DigestTask, tell: Tell) -> DigestOutcome:
        """Read a file from the server and digest it."""
        path = self._path(task.path)
        try:
            size, results = self._digest(path, task.algorithms, tell)
        except FileNotFoundError:
            return DigestOutcome("vanished", why="there is no such file")
        except ServerError as error:
            return DigestOutcome("unreadable", why=error.message)
        except OSError as error:
            return DigestOutcome("unreadable", why=system_words(error))
        return DigestOutcome("ok", size, results)

    def _digest(
        self, path: str, algorithms: tuple[str, ...], tell: Tell, also: Callable[[bytes], object] = lambda piece: None
    ) -> tuple[int, tuple[bytes, ...]]:
        """Read a file from the server, going on where it was if the connection ends."""
        running = [digests.new(name) for name in algorithms]
        size = 0
        for pause in (*_PAUSES, None):
            try:
                for piece in self.store.read(path, size):
                    for item in running:
                        item.update(piece)
                    also(piece)
                    size += len(piece)
                    tell(len(piece))
                return size, tuple(item.digest() for item in running)
            except ServerError as error:
                if pause is None or error.errno != errno.EIO or self.closed:
                    raise
                time.sleep(pause)
        raise AssertionError("the last round returns or raises")

    # Names that change.

    def change(self, operation: str, *paths: str) -> None:
        """Change a name on the server, as it is about to be changed here."""
        own = [self._path(path) for path in paths if self._is_here(path)]
        if operation == "create":
            self._new[own[0]] = None
        elif operation == "rename":
            self._rename(own[0], own[1])
        elif operation == "remove" and own[0] in self.files:
            self._told(self.store.remove, own[0])
            self.files.pop(own[0])
            self.here.discard(own[0])
        elif operation == "remove":
            self._new.pop(own[0], None)
        elif operation == "make-folder":
            self._told(self.store.make_folder, own[0])
            self.folders.add(own[0])
        elif operation == "remove-folder":
            self._remove_folder(own[0])

    def _remove_folder(self, folder: str) -> None:
        """Remove an empty folder; what an interrupted transfer left in it goes first."""
        try:
            self._told(self.store.remove_folder, folder)
        except ServerError:
            files, _ = self._told(self.store.listing, folder)
            rests = [path for path in files if path.endswith(BESIDE)]
            if not rests or len(rests) < len(files):
                raise
            for path in rests:
                self._told(self.store.remove, path)
            self._told(self.store.remove_folder, folder)
        self.folders.discard(folder)

    def _make_folder_of(self, path: str) -> None:
        folder = path.rpartition("/")[0]
        if folder and folder not in self.folders:
            self._told(self.store.make_folder, folder)
            self.folders.add(folder)

    def push(self) -> None:
        """Send what is new here and proven by being read back; what is only being written stays."""
        for path in [path for path in self._new if not path.endswith(_BESIDE)]:
            self._push(path, path)

    def _push(self, old: str, path: str) -> None:
        content = self._content(old)
        if content is None:
            self._new.pop(old, None)
            return
        self._make_folder_of(path)
        self._told(self.store.write, path, iter([content]), len(content))
        back = b"".join(self._told(lambda: list(self.store.read(path))))
        if back != content:
            raise ServerError(errno.EIO, "what the server gave back differs from what was sent to it")
        self._new.pop(old, None)
        with self._lock:
            self.files[path] = len(content)
            self.here.add(path)

    def _content(self, path: str) -> bytes | None:
        self._busy.now = True
        try:
            with self._local(path).open("rb") as file:
                return file.read()
        except FileNotFoundError:
            return None
        finally:
            self._busy.now = False

    def _rename(self, old: str, new: str) -> None:
        self.push()
        if old in self._new:
            self._push(old, new)
            return
        if old in self.files:
            self._make_folder_of(new)
            self._move(old, new)
            self._renamed(old, new)
            return
        below = [path for path in self.files if path.startswith(old + "/")]
        begun = new in self.folders or any(path.startswith(new + "/") for path in self.files)
        if self.store.renames_folders and not begun:
            self._make_folder_of(new)
            self._move_folder(old, new, len(below))
        else:
            for path in below:
                self._make_folder_of(new + path[len(old) :])
                self._move(path, new + path[len(old) :])
            if begun:
                self._join(old, new)
        for path in below:
            self._renamed(path, new + path[len(old) :])
        for folder in [folder for folder in self.folders if folder == old or folder.startswith(old + "/")]:
            if begun and self.store.renames_folders:
                self._make_folder_of(f"{new}{folder[len(old) :]}/x")
            self.folders.discard(folder)
            self.folders.add(new + folder[len(old) :])
        if begun and self.store.renames_folders:
            self._remove_empty(old)

    def _move(self, old: str, new: str) -> None:
        """Have a file get another name; it may have it already, if the answer to an earlier request was lost."""
        try:
            self._told(self.store.move, old, new)
        except FileNotFoundError:
            if self._told(self.store.size, new) != self.files[old]:
                raise

    def _move_folder(self, old: str, new: str, count: int) -> None:
        try:
            self._told(self.store.move_folder, old, new)
        except (FileNotFoundError, ServerError):
            there, _ = self._told(self.store.listing, new)
            left, _ = self._told(self.store.listing, old)
            if left or len(there) < count:
                raise

    def _remove_empty(self, folder: str) -> None:
        _, folders = self._told(self.store.listing, folder)
        for path in sorted(folders, reverse=True):
            self._told(self.store.remove_folder, path)

    def _join(self, old: str, new: str) -> None:
        """Have all that is in two folders here in the old one: a run that moved them file by file was interrupted."""
        source, target = self._local(new), self._local(old)
        for file in [path for path in source.rglob("*") if path.is_file()]:
            place = target / file.relative_to(source)
            place.parent.mkdir(parents=True, exist_ok=True)
            if not place.exists():
                file.replace(place)
            else:
                file.unlink()
        for folder in sorted((path for path in source.rglob("*") if path.is_dir()), reverse=True):
            (target / folder.relative_to(source)).mkdir(parents=True, exist_ok=True)
            folder.rmdir()
        source.rmdir()

    def _renamed(self, old: str, new: str) -> None:
        self.files[new] = self.files.pop(old)
        here = old in self.here
        self.here.discard(old)
        self.here.discard(new)
        if here:
            self.here.add(new)

    def _told(self, call: Callable[..., Any], *words: Any) -> Any:
        """Have the server do something, again if it does not answer."""
        for pause in (*_PAUSES, None):
            try:
                self._check()
                return call(*words)
            except ServerError as error:
                if pause is None or error.errno != errno.EIO or self.closed:
                    raise
                time.sleep(pause)
        raise AssertionError("the last round returns or raises")

    # What stands in.

    def _is_here(self, path: str) -> bool:
        return path == self.folder or path.startswith(prefix_of(self.folder))

    def _path(self, path: str | bytes) -> str:
        """Return the path in the chest of a path on this computer."""
        return slashed(os.fsdecode(path)[len(self.folder) + 1 :])

    def _local(self, path: str) -> Path:
        return Path(self.folder).joinpath(*path.split("/"))

    def _stand_in(self, path: str, size: int, mtime_ns: int) -> None:
        """Have an empty file of its size here for a file there."""
        place = self._local(path)
        self._busy.now = True
        try:
            place.parent.mkdir(parents=True, exist_ok=True)
            with place.open("wb") as file:
                file.truncate(size)
            os.utime(place, ns=(mtime_ns, mtime_ns))
        finally:
            self._busy.now = False
        with self._lock:
            self.files[path] = size
            self.here.discard(path)

    def fetch(self, path: str) -> None:
        """Have the bytes of a file here, if only an empty one stands in for it: somebody is about to open it."""
        if path in self.here or path not in self.files or getattr(self._busy, "now", False):
            return
        place = self._local(path)
        beside = place.with_name(place.name[:200] + ".being-fetched")
        self._busy.now = True
        try:
            info = place.stat()
            with beside.open("wb") as file:
                self._digest(path, (), lambda count: None, file.write)
            os.utime(beside, ns=(info.st_mtime_ns, info.st_mtime_ns))
            beside.replace(place)
        finally:
            self._busy.now = False
        self.here.add(path)

    def pause(self, now: bool) -> None:
        """Fetch nothing that this thread opens, as long as it pauses."""
        self._busy.now = now

    def watch_opening(self) -> None:
        """Fetch whatever is opened below the folder from now on: what reads records or catalogues knows of no server."""

        def opened(event: str, words: tuple[Any, ...]) -> None:
            if event not in ("open", "sqlite3.connect") or self.closed or not words:
                return
            if isinstance(words[0], str | bytes | os.PathLike) and not _writes(event, words):
                text = os.fsdecode(words[0])
                if text.startswith(prefix_of(self.folder)):
                    self.fetch(self._path(text))

        sys.addaudithook(opened)

    def hold(self, owner: str) -> AbstractContextManager[None]:
        """Hold the chest for changing; each change then makes sure that the hold lasts."""
        return hold(self.store, owner, self._checked)

    def _checked(self, check: Callable[[], None]) -> None:
        self._check = check

    def free(self) -> int | None:
        """Return the bytes that are free on the server, if it says."""
        return self.store.free()


class _SourceError(Exception):
    """The file that is sent cannot be read."""


class _Reading:
    """Reads a file of this computer, digests all of it, and yields what was not sent before."""

    def __init__(self, fd: int, tell: Tell, sha512: bool, begun: int) -> None:
        self._fd, self._tell, self._begun = fd, tell, begun
        self.fast = digests.new("blake3")
        self.slow = digests.new("sha512") if sha512 else None
        self.size = 0

    def __iter__(self) -> Iterator[bytes]:
        try:
            os.lseek(self._fd, 0, os.SEEK_SET)
            while piece := os.read(self._fd, CHUNK):
                self.fast.update(piece)
                if self.slow is not None:
                    self.slow.update(piece)
                self._tell(len(piece))
                skip = max(0, min(len(piece), self._begun - self.size))
                self.size += len(piece)
                if skip < len(piece):
                    yield piece[skip:]
        except OSError as error:
            raise _SourceError from error


def _write(fd: int, piece: bytes) -> None:
    rest = memoryview(piece)
    while rest:
        rest = rest[disk.write(fd, rest) :]


def _read_back(fd: int) -> bytes:
    os.lseek(fd, 0, os.SEEK_SET)
    running = digests.new("blake3")
    while piece := os.read(fd, CHUNK):
        running.update(piece)
    return running.digest()


def _writes(event: str, words: tuple[Any, ...]) -> bool:
    """Whether a file is opened to be written from its beginning: then its bytes need not be fetched."""
    flags = words[2] if event == "open" and len(words) > 2 and isinstance(words[2], int) else 0
    return bool(flags & (os.O_TRUNC | os.O_EXCL)) or bool(flags & os.O_CREAT and flags & os.O_WRONLY)
