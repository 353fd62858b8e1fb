"""The folder on this computer that stands in for a chest on a server: its records, and empty files of the size of all others.

What was fetched before is believed only where its SHA-512 is the one that the tag manifest on the server has; the tag
manifest, and what says that a change was interrupted, are fetched each time.
"""

from __future__ import annotations

import hashlib
import os
import shutil
from collections.abc import Callable
from pathlib import Path

from filelock import FileLock, Timeout

from dunechest.bag.manifest import decode_path
from dunechest.chest.layout import (
    BAGS,
    CHEST,
    CHEST_RECORD,
    CHEST_SUMS,
    FOR,
    JOURNAL,
    LOG,
    PAYLOAD,
    PROVEN,
    READ_ME,
    TAG_MANIFEST,
)
from dunechest.errors import ChestBusyError, ServerError
from dunechest.names import shown, stand_ins, why_unsafe
from dunechest.remote.address import Address
from dunechest.remote.hold import NAME as HELD
from dunechest.remote.place import ServerPlace
from dunechest.remote.store import BESIDE, Store
from dunechest.transfer import elsewhere
from dunechest.transfer.owner import make_own

#: Bytes of a record; a larger one is not one of ours.
_MOST = 1 << 30
_OF_CHEST = (CHEST_RECORD, READ_ME, CHEST_SUMS)


class StandIn:
    """A chest on a server that is open, until `close`.

    Parameters
    ----------
    address : Address
        Where it is.
    store : Store
        What speaks to the server, in the folder of the chest itself.
    state : Path
        The folder of this computer's own records.
    """

    def __init__(self, address: Address, store: Store, state: Path) -> None:
        self.address = address
        self.store = store
        top = state / "servers" / address.key
        make_own(top)
        self._lock = FileLock(top.with_suffix(".lock"), timeout=0)
        try:
            self._lock.acquire()
        except Timeout as error:
            raise ChestBusyError(
                f"Another process on this computer is at work with the chest {shown(address.text)}. Wait until that is done."
            ) from error
        self.folder = Path(os.path.realpath(top)) / CHEST
        self.place = ServerPlace(str(self.folder), address, store, {}, set())

    def close(self) -> None:
        """Let go of it: files that are only stood in for stay, and cost no room."""
        elsewhere.unregister(str(self.folder))
        stand_ins.pop(str(self.folder), None)
        self.place.closed = True
        for path in self.place.here & self.place.files.keys():
            own = path.split("/", 2)[2] if path.startswith(BAGS + "/") and path.count("/") > 1 else ""
            if own and _is_payload(own):
                try:
                    _empty(_inside(self.folder, path), self.place.files[path])
                except OSError:
                    continue  # it is given up the next time
        self.store.close()
        self._lock.release()

    def fill(self, tell: Callable[[str], object] = lambda name: None) -> bool:
        """Make the folder what stands in for the chest as it is now; false if there is no chest.

        Parameters
        ----------
        tell : callable
            Told which library's records are fetched.
        """
        files, folders = self.store.listing("")
        files = {path: size for path, size in files.items() if _is_ours(path)}
        folders = {path for path in folders if not path or _is_ours(path)}
        if CHEST_RECORD not in files and not any(path in files for path in _OF_CHEST):
            return False
        place = self.place
        place.files, place.folders = files, folders
        self.folder.mkdir(parents=True, exist_ok=True)
        (self.folder / BAGS).mkdir(exist_ok=True)
        self._drop_others()
        for path in sorted(folders):
            _inside(self.folder, path).mkdir(parents=True, exist_ok=True)
        for name in (*_OF_CHEST, *sorted(path for path in files if path.startswith(LOG + "/"))):
            self._fetch(name)
        for bag in sorted({path.split("/")[1] for path in (*files, *folders) if path.startswith(BAGS + "/")}):
            tell(bag)
            self._fill_bag(f"{BAGS}/{bag}/")
        elsewhere.register(str(self.folder), place)
        stand_ins[str(self.folder)] = self.address.text
        place.watch_opening()
        return True

    def _fill_bag(self, top: str) -> None:
        """Have the records of a bag here, and something that stands in for its other files."""
        # What a server lists may be older than what it has.
        for name in (JOURNAL, FOR, TAG_MANIFEST):
            self._fetch(top + name)
        listed = _listed(self.folder, top + TAG_MANIFEST)
        for path, size in sorted(self.place.files.items()):
            if not path.startswith(top) or path in self.place.here:
                continue
            own = path[len(top) :]
            if own == PROVEN and _inside(self.folder, path).exists():
                self.place.here.add(path)  # the one here is newer
            elif _is_payload(own):
                self._stand_in(path, size)
            elif not self._is_proven(path, size, listed.get(own)):
                self._fetch(path)
            else:
                self.place.here.add(path)
        # What an interrupted run of this computer had proven is known here alone.
        proven = _inside(self.folder, top + PROVEN)
        if proven.exists() and top + FOR not in self.place.files:
            proven.unlink()

    def fetch_records(self) -> None:
        """Fetch all records, also those that are here and proven."""
        self.place.pause(True)
        try:
            for path in sorted(self.place.files):
                own = path.split("/", 2)[2] if path.startswith(BAGS + "/") and path.count("/") > 1 else ""
                if not own or not (_is_payload(own) or own == PROVEN):
                    self._fetch(path)
        finally:
            self.place.pause(False)

    def _is_proven(self, path: str, size: int, digest: str | None) -> bool:
        """Whether a record that was fetched before is what the tag manifest on the server says, and as large as there."""
        place = _inside(self.folder, path)
        try:
            return digest is not None and place.lstat().st_size == size and _sha512(place) == digest
        except FileNotFoundError:
            return False

    def _stand_in(self, path: str, size: int) -> None:
        target = _inside(self.folder, path)
        try:
            info = target.lstat()
            if info.st_size == size and not os.path.islink(target):
                _empty(target, size)
                return
        except FileNotFoundError:
            pass
        target.parent.mkdir(parents=True, exist_ok=True)
        target.unlink(missing_ok=True)
        with target.open("wb") as file:
            file.truncate(size)

    def _fetch(self, path: str) -> None:
        """Fetch a record; one that is not there is not here either."""
        target = _inside(self.folder, path)
        try:
            content = b""
            for piece in self.store.read(path):
                content += piece
                if len(content) > _MOST:
                    raise ServerError(5, f"{path} is larger than any record")
        except FileNotFoundError:
            target.unlink(missing_ok=True)
            self.place.files.pop(path, None)
            return
        target.parent.mkdir(parents=True, exist_ok=True)
        target.unlink(missing_ok=True)
        target.write_bytes(content)
        self.place.files[path] = len(content)
        self.place.here.add(path)

    def _drop_others(self) -> None:
        """Remove what is here from before and not there any more."""
        for folder, names, files in os.walk(self.folder, topdown=False):
            for name in files:
                place = Path(folder, name)
                path = place.relative_to(self.folder).as_posix()
                if path not in self.place.files and not path.endswith("/" + PROVEN):
                    place.unlink()
            for name in names:
                place = Path(folder, name)
                if place.is_symlink():
                    place.unlink()
                elif place.relative_to(self.folder).as_posix() not in self.place.folders and not any(place.iterdir()):
                    place.rmdir()


def _is_ours(path: str) -> bool:
    """Whether a path from the server can be used at all: nothing on a server is trusted, least of all a name."""
    return why_unsafe(path) is None and not path.endswith(BESIDE) and path.rpartition("/")[2] != HELD


def _is_payload(own: str) -> bool:
    """Whether a file of a bag is fetched only when it is needed."""
    return own.startswith(("data/", "dune/earlier/", PAYLOAD + "/", "dune/pending/moved/", "dune/pending/gone/"))


def _inside(folder: Path, path: str) -> Path:
    return folder.joinpath(*path.split("/"))


def _listed(folder: Path, path: str) -> dict[str, str]:
    """Return the digests that a tag manifest has, by path in the bag."""
    try:
        lines = _inside(folder, path).read_text(encoding="utf-8", errors="replace").splitlines()
    except FileNotFoundError:
        return {}
    found = {}
    for line in lines:
        digest, _, name = line.partition(" ")
        if len(digest) == 128 and name.strip():
            found[decode_path(name.strip())] = digest.lower()
    return found


def _sha512(path: Path) -> str:
    whole = hashlib.sha512()
    try:
        with path.open("rb") as file:
            while piece := file.read(1 << 20):
                whole.update(piece)
    except (FileNotFoundError, IsADirectoryError):
        return ""
    return whole.hexdigest()


def _empty(path: Path, size: int) -> None:
    """Give up the room of a file whose bytes had been fetched."""
    if size and getattr(path.stat(), "st_blocks", 1):  # a system that does not say may have them
        with path.open("wb") as file:
            file.truncate(size)


def remove_stand_in(state: Path, address: Address) -> None:
    """Forget what was fetched of a chest on a server."""
    shutil.rmtree(state / "servers" / address.key, ignore_errors=True)
