"""A drive that keeps names decomposed (NFD), finds them by any spelling, and does not tell cases apart: as a Mac's older ones.

Run as a program, it serves a folder in this way until it is unmounted: ``python -m tests.support.decomposing FOLDER PLACE``.
With ``share`` after that, names are left alone, and what is mounted says that it is a network share: mounted several times,
each knows nothing of the locks of the others.
"""

from __future__ import annotations

import os
import sys
import unicodedata
from typing import Any


def _folded(name: str) -> str:
    return unicodedata.normalize("NFD", unicodedata.normalize("NFD", name).casefold())


def main(folder: str, place: str, *, share: bool = False) -> None:
    """Serve a folder until its mount point is unmounted."""
    import mfusepy

    class Drive(mfusepy.Operations):  # type: ignore[misc]
        use_ns = True

        def _at(self, path: str) -> str:
            if share:
                return folder + path
            here = folder
            for piece in path.split("/"):
                if not piece:
                    continue
                try:
                    names = os.listdir(here)
                except OSError:
                    names = []
                found = next((name for name in names if _folded(name) == _folded(piece)), None)
                here = os.path.join(here, found or unicodedata.normalize("NFD", piece))
            return here

        def _do(self, call: Any, *words: Any) -> Any:
            try:
                return call(*words)
            except OSError as error:
                raise mfusepy.FuseOSError(error.errno) from error

        def getattr(self, path: str, fh: Any = None) -> dict[str, Any]:
            info = self._do(os.lstat, self._at(path))
            told = {
                key: getattr(info, key)
                for key in ("st_gid", "st_mode", "st_nlink", "st_size", "st_uid", "st_blocks", "st_ino")
            }
            return told | {f"st_{key}": getattr(info, f"st_{key}_ns") for key in ("atime", "mtime", "ctime")}

        def readdir(self, path: str, fh: Any) -> list[str]:
            return [".", "..", *self._do(os.listdir, self._at(path))]

        def mkdir(self, path: str, mode: int) -> Any:
            return self._do(os.mkdir, self._at(path), mode)

        def rmdir(self, path: str) -> Any:
            return self._do(os.rmdir, self._at(path))

        def unlink(self, path: str) -> Any:
            return self._do(os.unlink, self._at(path))

        def rename(self, old: str, new: str, flags: int = 0) -> Any:
            source, target = self._at(old), self._at(new)
            if os.path.lexists(target) and os.path.samefile(target, source):  # only its spelling changes
                target = os.path.join(os.path.dirname(target), unicodedata.normalize("NFD", os.path.basename(new)))
            return self._do(os.rename, source, target)

        def open(self, path: str, flags: int) -> Any:
            return self._do(os.open, self._at(path), flags & ~os.O_NOFOLLOW)

        def create(self, path: str, mode: int, fi: Any = None) -> Any:
            return self._do(os.open, self._at(path), os.O_RDWR | os.O_CREAT | os.O_EXCL, mode)

        def link(self, target: str, source: str) -> Any:
            return self._do(os.link, self._at(source), self._at(target))

        def read(self, path: str, size: int, offset: int, fh: int) -> bytes:
            return os.pread(fh, size, offset)

        def write(self, path: str, data: bytes, offset: int, fh: int) -> int:
            return int(self._do(os.pwrite, fh, data, offset))

        def truncate(self, path: str, length: int, fh: Any = None) -> Any:
            return self._do(os.truncate, self._at(path), length)

        def release(self, path: str, fh: int) -> Any:
            return os.close(fh)

        def flush(self, path: str, fh: int) -> int:
            return 0

        def fsync(self, path: str, datasync: int, fh: int) -> Any:
            return self._do(os.fsync, fh)

        def chmod(self, path: str, mode: int) -> Any:
            return self._do(os.chmod, self._at(path), mode)

        def chown(self, path: str, uid: int, gid: int) -> int:
            return 0

        def utimens(self, path: str, times: Any = None) -> Any:
            place = self._at(path)
            return self._do(lambda: os.utime(place, ns=times, follow_symlinks=False))

        def symlink(self, target: str, source: str) -> Any:
            return self._do(os.symlink, source, self._at(target))

        def readlink(self, path: str) -> str:
            return str(self._do(os.readlink, self._at(path)))

        def statfs(self, path: str) -> dict[str, Any]:
            info = os.statvfs(folder)
            return {key: getattr(info, key) for key in dir(info) if key.startswith("f_") and key not in ("f_fsid",)}

    mfusepy.FUSE(
        Drive(),
        place,
        foreground=True,
        nothreads=True,
        fsname="decomposing",
        **({"subtype": "share"} if share else {}),
        attr_timeout=0,
        entry_timeout=0,
        negative_timeout=0,
    )


if __name__ == "__main__":
    main(sys.argv[1], sys.argv[2], share=sys.argv[3:] == ["share"])
