"""What of an original stays, because nothing proves that it is kept elsewhere, or because it may not be copied."""

from __future__ import annotations

import os
from collections.abc import Collection, Iterable, Sequence
from pathlib import Path

import msgspec

from dunechest.library.kinds.patterns import Patterns
from dunechest.model.study import Contents
from dunechest.transfer.walk import FileEntry, Walk
from dunechest.values import PathAndWhy


class Split(msgspec.Struct, frozen=True):
    """Files that go and files that stay, each of those with the reason; and files about which nothing is known."""

    going: tuple[FileEntry, ...]
    staying: tuple[PathAndWhy, ...]
    unknown: tuple[FileEntry, ...]


LICENSED = "bought or licensed: it is in no archive"
PLACEHOLDER = "only a placeholder: its content is not on this computer"
LEFT_OUT = "it was left out of the archive"


def split(
    contents: Contents, files: Sequence[FileEntry], held: Collection[str], left: Collection[str], also: Iterable[str]
) -> Split:
    """Divide files into those that go, those that stay, and those that are new or changed.

    Parameters
    ----------
    contents : Contents
        The library.
    files : sequence of FileEntry
        The files in question.
    held : collection of str
        Paths of those that a copy has as they are now.
    left : collection of str
        Paths that were left out of the archive.
    also : iterable of str
        Paths or patterns of what goes though it would stay.
    """
    named = Named(also)
    going: list[FileEntry] = []
    staying: list[PathAndWhy] = []
    unknown: list[FileEntry] = []
    for file in files:
        why = ""
        if file.path in contents.lock_marks or named.match(file.path):
            pass
        elif contents.roles.get(file.path) == "must-not-leave":
            why = LICENSED
        elif file.placeholder:
            why = PLACEHOLDER
        elif file.path in held:
            pass
        elif file.path in left:
            why = LEFT_OUT
        else:
            unknown.append(file)
            continue
        if why:
            staying.append(PathAndWhy(file.path, why))
        else:
            going.append(file)
    return Split(tuple(going), tuple(staying), tuple(unknown))


class Named:
    """What a person named to go, too: paths, folders and patterns."""

    def __init__(self, words: Iterable[str]) -> None:
        self._words = tuple(word.rstrip("/") for word in words)
        self._patterns = Patterns(self._words)

    def match(self, path: str) -> bool:
        """Whether a path is named, or lies in a folder that is."""
        return self._patterns.match(path) or any(path == word or path.startswith(word + "/") for word in self._words)

    def unused(self, paths: Iterable[str]) -> list[str]:
        """Return the words that name nothing."""
        every = list(paths)
        return [word for word in self._words if not any(Named((word,)).match(path) for path in every)]


def blocks_of(place: Path, files: Iterable[FileEntry]) -> int:
    """Return the bytes that files take on the disk and give back when they go: none while another name of theirs stays."""
    total = 0
    names: dict[tuple[int, int], list[int]] = {}
    for file in files:
        try:
            info = os.lstat(place / file.path)
        except OSError:
            continue
        taken = getattr(info, "st_blocks", -(-info.st_size // 4096) * 8) * 512
        if info.st_nlink <= 1:
            total += taken
            continue
        known = names.setdefault((info.st_dev, info.st_ino), [info.st_nlink, 0, taken])
        known[1] += 1
    return total + sum(taken for count, ours, taken in names.values() if ours >= count)


def others_staying(listing: Walk) -> list[PathAndWhy]:
    """Return what is neither a file nor a folder nor empty by its nature, and what cannot be read: it stays."""
    odd = [item for item in listing.others if not _is_empty(item.why)]
    return [PathAndWhy(item.path, item.why) for item in (*odd, *listing.unreadable)]


def empty_ones(listing: Walk) -> list[str]:
    """Return sockets and pipes: they hold no bytes, and whoever made them makes them again."""
    return [item.path for item in listing.others if _is_empty(item.why)]


def _is_empty(why: str) -> bool:
    return why.endswith("it holds no bytes")
