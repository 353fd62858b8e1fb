"""A census of a folder: how many files of which endings are in it and below, and where some of them are."""

from __future__ import annotations

import os
from collections import Counter
from collections.abc import Iterable
from itertools import islice
from pathlib import Path

import msgspec

from dunechest.library.endings import ending
from dunechest.paths import is_folder
from dunechest.transfer import safe
from dunechest.transfer.placeholder import is_placeholder

#: So many entries of a folder are counted, where it is not known yet.
_MOST = 50_000
#: So many files of each ending are remembered, to be looked into.
_SAMPLES = 4

#: First bytes of files by their ending; for ``ftyp`` the size of the box stands before. What has another ending is believed.
_BEGINS: dict[str, tuple[bytes, ...]] = {
    **dict.fromkeys((".jpg", ".jpeg"), (b"\xff\xd8\xff",)),
    ".png": (b"\x89PNG\r\n\x1a\n",),
    ".gif": (b"GIF8",),
    **dict.fromkeys((".tif", ".tiff", ".dng", ".nef", ".arw"), (b"II*\0", b"MM\0*")),
    ".webp": (b"RIFF",),
    **dict.fromkeys(
        (".heic", ".heif", ".avif", ".m4a", ".mp4", ".m4v", ".mov"), (b"ftyp", b"moov", b"mdat", b"wide")
    ),
    ".flac": (b"fLaC",),
    **dict.fromkeys((".ogg", ".oga", ".opus"), (b"OggS",)),
    ".mp3": (b"ID3", b"\xff\xfb", b"\xff\xf3", b"\xff\xf2", b"\xff\xfa"),
    ".wav": (b"RIFF", b"RF64"),
    **dict.fromkeys((".aif", ".aiff"), (b"FORM",)),
}

#: What programs make for themselves: no part of what a person keeps there.
INNER = frozenset({".git", ".hg", ".svn", "node_modules", "__pycache__", ".ipynb_checkpoints", "site-packages"})


class Census(msgspec.Struct):
    """Numbers of files in a folder and below it, by ending in small letters, and some of their paths."""

    files: int = 0
    endings: Counter[str] = msgspec.field(default_factory=Counter)
    samples: dict[str, list[str]] = msgspec.field(default_factory=dict)

    def count(self, folder: str, names: Iterable[str]) -> None:
        """Count files that lie directly in a folder, given by its path."""
        names = names if isinstance(names, list) else list(names)
        endings = [ending(name) for name in names]
        self.files += len(names)
        self.endings.update(endings)
        for last in {*endings}:
            some = self.samples.setdefault(last, [])
            if len(some) < _SAMPLES:
                few = islice(
                    (name for name, own in zip(names, endings, strict=True) if own == last), _SAMPLES - len(some)
                )
                some += [os.path.join(folder, name) for name in few]

    def add(self, below: Census) -> None:
        """Add what is in a folder below."""
        self.files += below.files
        self.endings.update(below.endings)
        for last, paths in below.samples.items():
            some = self.samples.setdefault(last, [])
            some += paths[: max(0, _SAMPLES - len(some))]


def census_of(folder: Path) -> Census:
    """Count what is in a folder, as far as `_MOST` entries; it goes into no link, and opens nothing."""
    census = Census()
    pending = [str(folder)]
    seen = 0
    while pending and seen < _MOST:
        place = pending.pop()
        files = []
        try:
            with os.scandir(place) as entries:
                for entry in entries:
                    seen += 1
                    if is_folder(entry):
                        if entry.name not in INNER:
                            pending.append(entry.path)
                    elif entry.is_file(follow_symlinks=False):
                        files.append(entry.name)
        except OSError:
            continue
        census.count(place, files)
    return census


def genuine(path: str) -> bool:
    """Whether a file begins as its ending says; one whose ending says nothing of that, or that is a placeholder, is believed."""
    known = _BEGINS.get(os.path.splitext(path)[1].lower())
    if known is None:
        return True
    try:
        if is_placeholder(path, os.stat(path)):
            return True
        with os.fdopen(safe.open_regular(Path(path)), "rb") as file:
            head = file.read(16)
    except (OSError, ValueError):
        return False
    return head.startswith(known) or head[4:].startswith(known)
