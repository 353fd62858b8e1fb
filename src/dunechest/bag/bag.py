"""A bag as a folder: what it declares, what it lists, and what really lies in it."""

from __future__ import annotations

import os
import re
import stat
from collections.abc import Callable, Iterable, Iterator
from pathlib import Path
from typing import BinaryIO

import msgspec

from dunechest.bag import manifest as manifests
from dunechest.bag import tags
from dunechest.bag.manifest import FetchEntry, Manifest, Problem
from dunechest.errors import BagUnusableError
from dunechest.names import shown, why_unsafe
from dunechest.paths import leads_elsewhere, respelled
from dunechest.regex import late
from dunechest.transfer import digests, safe

_MANIFEST = late(r"(tag)?manifest-([a-z0-9-]+)\.txt\Z", re.IGNORECASE)
#: A tag file larger than this is not read: ten million files would fit.
_MOST = 4 << 30


class Bag(msgspec.Struct):
    """A bag that was read, not yet verified.

    Attributes
    ----------
    folder : Path
        Where it lies.
    declaration : Declaration
        Version and encoding.
    payload, tag : list of Manifest
        Payload and tag manifests whose algorithm is known here.
    info : list of pairs
        ``bag-info.txt``.
    fetch : list of FetchEntry
        Files that are said to lie elsewhere.
    problems : list of Problem
        Everything in the bag's own files that could not be read or understood.
    """

    folder: Path
    declaration: tags.Declaration
    payload: list[Manifest] = msgspec.field(default_factory=list)
    tag: list[Manifest] = msgspec.field(default_factory=list)
    info: list[tuple[str, str]] = msgspec.field(default_factory=list)
    fetch: list[FetchEntry] = msgspec.field(default_factory=list)
    problems: list[Problem] = msgspec.field(default_factory=list)

    @property
    def oxum(self) -> tuple[int, int] | None:
        """Payload bytes and files as ``bag-info.txt`` has them."""
        return tags.oxum(self.info)


class BagListing(msgspec.Struct, frozen=True):
    """The contents of a bag's folder: sizes of regular files by path, and names of everything else.

    Paths are relative with ``/``; `others` are links, pipes, sockets and devices;
    `unreadable` are folders that could not be listed.
    """

    files: dict[str, int]
    others: dict[str, str]
    unreadable: dict[str, str]


def is_bag(folder: Path) -> bool:
    """Whether a folder says that it is a bag."""
    try:
        return stat.S_ISREG((folder / "bagit.txt").lstat().st_mode)
    except OSError:
        return False


def read_bag(
    folder: Path, *, assume: bool = False, at: Callable[[str], Path] | None = None, names: Iterable[str] | None = None
) -> Bag:
    """Read a bag's own files.

    Parameters
    ----------
    folder : Path
        The folder with ``bagit.txt`` in it.
    assume : bool
        Take a bag whose declaration is damaged or missing for one of version 1.0 in
        UTF-8 and make that a problem: for a bag that other records tell to be one.
    at : callable, optional
        Says where a file of the bag lies, by its name; in the folder itself by default.
    names : iterable of str, optional
        Names in the top folder, where they are known already.

    Returns
    -------
    Bag

    Raises
    ------
    BagUnusableError
        If there is no readable declaration.
    """
    place = at or folder.joinpath
    bag = _declared(folder, place, assume=assume)
    strict = bag.declaration.strict
    if bag.declaration.odd:
        bag.problems.append(Problem("bagit.txt", 0, bag.declaration.odd))
    for name in sorted(os.listdir(folder) if names is None else names):
        if (found := _MANIFEST.match(name)) is not None:
            _add_manifest(bag, name, found, place)
    if (text := _text(bag, "bag-info.txt", place, required=False)) is not None:
        bag.info, problems = tags.parse_info(text, strict=strict)
        bag.problems.extend(problems)
    if (text := _text(bag, "fetch.txt", place, required=False)) is not None:
        bag.fetch, problems = manifests.parse_fetch(text)
        bag.problems.extend(problems)
    if not bag.payload:
        bag.problems.append(Problem("", 0, "there is no readable payload manifest"))
    return bag


def _declared(folder: Path, place: Callable[[str], Path], *, assume: bool) -> Bag:
    """Return a bag with its declaration; where one is assumed, what is wrong with it is a problem of the bag."""
    try:
        return Bag(folder, tags.parse_declaration(_read(place("bagit.txt"), 4096)))
    except FileNotFoundError as error:
        why = "it is missing"
        if not assume:
            raise BagUnusableError(f"{shown(str(folder))} is not a bag: there is no bagit.txt in it.") from error
    except BagUnusableError as error:
        why = str(error)
        if not assume:
            raise
    except (OSError, ValueError) as error:
        why = f"it cannot be read: {error}"
        if not assume:
            raise BagUnusableError(f"{shown(str(folder))}: bagit.txt cannot be read: {error}") from error
    return Bag(folder, tags.Declaration(), problems=[Problem("bagit.txt", 0, why)])


def _add_manifest(bag: Bag, name: str, found: re.Match[str], place: Callable[[str], Path]) -> None:
    """Read one manifest of a bag, by its name."""
    strict = bag.declaration.strict
    algorithm = found.group(2).lower().replace("-", "")
    digits = digests.of_manifests().get(algorithm)
    if digits is None:
        bag.problems.append(Problem(name, 0, f"the algorithm {found.group(2)} is unknown"))
        return
    if strict and found.group(2) != algorithm:
        why = f"an algorithm's name has small letters and digits only: {algorithm}"
        bag.problems.append(Problem(name, 0, why))
    text = _text(bag, name, place)
    if text is None:
        return
    payload = found.group(1) is None
    manifest = manifests.parse_manifest(name, algorithm, text, payload=payload, digest_length=digits, strict=strict)
    if not strict:
        _literal_percents(manifest, place)
    (bag.payload if payload else bag.tag).append(manifest)
    bag.problems.extend(manifest.problems)


def _literal_percents(manifest: Manifest, place: Callable[[str], Path]) -> None:
    """Read ``%25`` as a percent sign where a bag of a draft wrote it so: the drafts left that open, the files tell."""
    for path in [path for path in manifest.entries if "%25" in path]:
        decoded = path.replace("%25", "%")
        if not os.path.lexists(place(path)) and os.path.lexists(place(decoded)):
            manifest.entries[decoded] = manifest.entries[path]
            del manifest.entries[path]


def _read(path: Path, most: int) -> bytes:
    """Read a small file that must be a regular one (a link could lead out of the bag)."""
    try:
        return safe.read_bounded(path, most)
    except ValueError as error:
        raise ValueError("it is far too large") from error


def payload_lines(file: BinaryIO) -> Iterator[tuple[str, bytes]]:
    """Yield path below ``data/`` and raw SHA-512 of each line of an open payload manifest, one by one.

    Raises
    ------
    OSError
        If it cannot be read.
    ValueError
        At a line that is not just as Dune Chest writes it; `read_bag` understands others.
    """
    while line := file.readline(manifests.LONGEST_LINE):
        digest, path_text = line[:128], line[135:-1].decode()
        if line[128:135] != b"  data/" or line[-1:] != b"\n" or "\r" in path_text or why_unsafe(path_text):
            raise ValueError("a line of the manifest is not usual")
        yield manifests.decode_path(path_text), bytes.fromhex(digest.decode())


def _text(bag: Bag, name: str, place: Callable[[str], Path], *, required: bool = True) -> str | None:
    try:
        content = _read(place(name), _MOST)
    except FileNotFoundError:
        if required:
            bag.problems.append(Problem(name, 0, "it is missing"))
        return None
    except (OSError, ValueError) as error:
        bag.problems.append(Problem(name, 0, f"it cannot be read: {error}"))
        return None
    try:
        return content.decode(bag.declaration.encoding)
    except UnicodeDecodeError as error:
        line = content.count(b"\n", 0, error.start) + 1
        bag.problems.append(Problem(name, line, f"it is not {bag.declaration.encoding} text"))
        # The lines before and after are still good: what is torn will match nothing.
        return content.decode(bag.declaration.encoding, "replace")


def spelled_as(lying: BagListing, listed: Iterable[str], folder: Path) -> BagListing:
    """Give what lies in a bag the names that its lists have, where the drive spells these in a form of its own."""
    names = respelled(lying.files, listed, folder)
    if not names:
        return lying
    files = {names.get(path, path): size for path, size in lying.files.items()}
    return BagListing(files, lying.others, lying.unreadable)


def list_bag(folder: Path) -> BagListing:
    """List everything in a bag's folder, following no link."""
    files: dict[str, int] = {}
    others: dict[str, str] = {}
    unreadable: dict[str, str] = {}
    is_directory, is_file, is_link = stat.S_IFDIR, stat.S_IFREG, stat.S_IFLNK
    pending = [""]
    while pending:
        inner = pending.pop()
        prefix = inner + "/" if inner else ""
        try:
            with os.scandir(folder / inner if inner else folder) as entries:
                for entry in entries:
                    path = prefix + entry.name
                    info = entry.stat(follow_symlinks=False)
                    kind = info.st_mode & 0o170000  # as stat.S_IFMT, without a call for each of many files
                    if kind == is_file:
                        files[path] = info.st_size
                    elif kind == is_link or leads_elsewhere(info):
                        others[path] = "a link, which a bag cannot hold"
                    elif kind == is_directory:
                        pending.append(path)
                    else:
                        others[path] = "neither a file nor a folder"
        except OSError as error:
            unreadable[inner] = error.strerror or str(error)
    return BagListing(files, others, unreadable)
