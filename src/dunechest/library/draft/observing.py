"""What a draft is made of, and how a few paths become a pattern."""

from __future__ import annotations

import os
import re
from collections import Counter, defaultdict
from collections.abc import Iterable, Sequence
from pathlib import Path
from typing import Literal

import msgspec

from dunechest.errors import CutOffError, UsageError
from dunechest.library.formats.base import Raw
from dunechest.library.references.resolve import Resolver, Target
from dunechest.machine.folders import own_home
from dunechest.names import parents, shown
from dunechest.regex import late
from dunechest.transfer import safe
from dunechest.transfer.walk import FileEntry, Walk, walk_own

Sureness = Literal["sure", "likely", "guess"]

#: Bytes of a file that is looked into; what is larger is no index or project file.
LOOKED_INTO = 32 << 20


class Observation(msgspec.Struct, frozen=True):
    """Something seen in a library that becomes lines of its kind file.

    `keys` are TOML keys and values of a table `[[table]]` (or of a single value if
    `table` is empty); a *guess* is written as a remark.
    """

    table: str
    keys: tuple[tuple[str, object], ...]
    sureness: Sureness
    why: str


class Ground:
    """A library under study: its listing, and what its names lead to.

    `person` is the name of whose home it is; `names` counts the files of each name; `below` has the files at any depth of
    each folder.
    """

    def __init__(self, folder: Path, listing: Walk, home: Path) -> None:
        self.folder = folder
        self.home = home
        self.person = home.name
        self.listing = listing
        self.files: dict[str, FileEntry] = {file.path: file for file in listing.files}
        self.resolver = Resolver(folder, self.files, (f.path for f in listing.folders), home)
        self.tops = sorted({path.partition("/")[0] for path in self.files if "/" in path})
        self.names = Counter(path.rpartition("/")[2] for path in self.files)
        self.below: dict[str, list[str]] = defaultdict(list)
        for path in self.files:
            for above in parents(path):
                self.below[above].append(path)

    def head(self, path: str, length: int = 64) -> bytes:
        """Return the first bytes of a file; none of a placeholder, which would be fetched."""
        if self.files[path].placeholder:
            return b""
        try:
            with os.fdopen(safe.open_regular(self.folder / path), "rb") as file:
                return file.read(length)
        except OSError:
            return b""

    def leads(self, text: str, base: str, *, uri: bool = False) -> Target | None:
        """Say where a text leads if it is taken for a path; None if to no file or folder that is there."""
        target = self.resolver.resolve(Raw("", text, uri), base)
        if target is None or target.state in ("missing", "away") or not target.path:
            return None
        return target


def ground_of(folder: str | os.PathLike[str], home: Path | None) -> Ground:
    """Return a library under study: a folder, in somebody's home, one's own by default.

    Raises
    ------
    UsageError
        If there is no such folder.
    CutOffError
        If it cannot be listed.
    """
    place = Path(os.path.realpath(folder))
    if not place.is_dir():
        raise UsageError(f"There is no folder {shown(os.fspath(folder))}.")
    try:
        return Ground(place, walk_own(str(place)), Path(os.path.realpath(home or own_home())))
    except OSError as error:
        raise CutOffError(f"{shown(str(place))} cannot be listed: {error.strerror}.") from error


def ending(path: str) -> str:
    """Return a path's ending with its dot, in small letters; of ``.name`` and ``name`` none."""
    name = path.rpartition("/")[2]
    stem, dot, last = name.rpartition(".")
    return (dot + last).lower() if stem and len(last) <= 12 else ""


def pattern_of(paths: Sequence[str]) -> str:
    """Return a pattern that all of some paths match, as narrow as it can be said in one line.

    >>> pattern_of(["a/1/list.db", "a/2/list.db"]), pattern_of(["p/x.m3u8", "p/y.m3u8"])
    ('a/*/list.db', 'p/*.m3u8')
    >>> pattern_of(["a/b.svg", "c.svg"])
    '**/*.svg'
    """
    split = [path.split("/") for path in paths]
    if len({len(pieces) for pieces in split}) == 1:
        return "/".join(_piece([pieces[i] for pieces in split]) for i in range(len(split[0])))
    shared = 0
    while all(len(p) > shared + 1 and p[shared] == split[0][shared] for p in split):
        shared += 1
    return "/".join([*split[0][:shared], "**", _piece([pieces[-1] for pieces in split])])


def sort_of(paths: Sequence[str]) -> str:
    """Return a pattern for files of one sort: one example speaks for those of its ending that come later.

    >>> sort_of(["lists/rain.m3u"]), sort_of(["a/x.m3u", "b/x.m3u"])
    ('lists/*.m3u', '*/*.m3u')
    """
    folder, slash, _ = pattern_of(paths).rpartition("/")
    last = paths[0].rpartition("/")[2].rpartition(".")[2]
    return f"{folder}{slash}*.{last}" if ending(paths[0]) else pattern_of(paths)


#: What stands in a name for one person, set-up or machine: numbers that were drawn, addresses, long numbers.
_DRAWN = late(
    r"[\w.+-]*@[\w.-]+"
    r"|[0-9a-fA-F]{8}(?:-[0-9a-fA-F]{4}){3}-[0-9a-fA-F]{12}"
    r"|(?<![A-Za-z0-9])(?=[A-Za-z]*\d)[A-Za-z0-9]{8,}(?![A-Za-z0-9])"
)


def impersonal(pattern: str, person: str) -> str:
    """Return a pattern with a star for whatever in it stands for one person or one set-up.

    >>> impersonal("profiles/x8f3k2ab.usual/pages.db", "wren"), impersonal("notes of wren/**", "wren")
    ('profiles/*.usual/pages.db', 'notes of */**')
    """
    own = rf"(?<![A-Za-z]){re.escape(person)}(?![A-Za-z])" if len(person) > 1 else r"(?!)"

    def piece(text: str) -> str:
        if text == "**":
            return text
        return re.sub(r"\*+", "*", re.sub(own, "*", _DRAWN.sub("*", text), flags=re.IGNORECASE))

    return "/".join(map(piece, pattern.split("/")))


def _piece(names: Iterable[str]) -> str:
    # A name that is not UTF-8 cannot stand in a TOML file; a question mark stands for each odd character.
    different = {re.sub("[\ud800-\udfff]", "?", name) for name in names}
    if len(different) == 1:
        return different.pop()
    endings = {name.rpartition(".")[1] + name.rpartition(".")[2] for name in different}
    return "*" + endings.pop() if len(endings) == 1 and all("." in name[1:] for name in different) else "*"
