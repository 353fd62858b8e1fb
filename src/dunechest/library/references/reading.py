"""Read all references of a library, and say where each leads."""

from __future__ import annotations

import os
import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import ClassVar

import msgspec

from dunechest.library.formats import (
    bibliographies,
    keyed,
    markup,
    notebooks,
    plain_lines,
    playlists,
    tables,
    typeset,
)
from dunechest.library.formats.base import Raw, UnreadableError
from dunechest.library.formats.markup import name_nothing
from dunechest.library.kinds.schema import FoundReferences, Kind, References
from dunechest.library.references.resolve import OF_THE_SYSTEM, Resolver, State, Target, not_taken
from dunechest.paths import prefix_of
from dunechest.regex import late
from dunechest.transfer.beginnings import in_groups
from dunechest.transfer.walk import FileEntry, Walk

Reader = Callable[[Path, References], Iterator[Raw]]

READERS: dict[str, Reader] = {
    "sqlite": tables.read_sqlite,
    "m3u8": playlists.read_m3u8,
    "pls": playlists.read_pls,
    "xspf": playlists.read_xspf,
    "bibtex": bibliographies.read_bibtex,
    "csl-json": bibliographies.read_csl,
    "ris": bibliographies.read_ris,
    "xmp": markup.read_xmp,
    "markdown": markup.read_markdown,
    "html": markup.read_html,
    "svg": markup.read_svg,
    "css": markup.read_css,
    "latex": typeset.read_latex,
    "ipynb": notebooks.read_ipynb,
    "includes": plain_lines.read_includes,
    "lines": plain_lines.read_lines,
    "json": keyed.read_keyed,
    "toml": keyed.read_keyed,
    "ini": keyed.read_keyed,
}


_SOMEBODYS = late(
    r"(?:file:(?://(?:localhost)?)?)?(?:/(?:home|Users|media|run/media|mnt|Volumes)/[^/]+/\S|~/\S|/?[A-Za-z]:[\\/]Users[\\/])"
)


class Reference(msgspec.Struct, frozen=True, gc=False):
    """One reference of a library.

    Parameters
    ----------
    source : str
        The file that holds it, or the link itself; a path in the library.
    spot : str
        Where in that file.
    text : str
        As it is written.
    state : str
        ``inside``, ``outside_file``, ``missing``, ``away`` (outside this computer) or ``folder``
        (a folder outside the library).
    target : str
        Path in the library if inside, else the full path or address.
    moved : bool
        Whether it names another place, and the file was known by the end of its path.
    drive : str
        Name of the drive that a missing one was on, if that can be told.
    """

    _told: ClassVar[tuple[str, ...]] = ("source", "spot", "text", "state", "target")

    source: str
    spot: str
    text: str
    state: State
    target: str
    moved: bool = False
    drive: str = ""


class ReferenceReport(msgspec.Struct, frozen=True):
    """All references of a library, and the files whose references could not be read, with the reason."""

    references: tuple[Reference, ...] = ()
    unread: tuple[tuple[str, str], ...] = ()


def base_of(spec: References, source: str) -> str:
    """Return the folder in the library that a file's references are relative to."""
    if spec.base == ".":
        return ""
    return spec.base or source.rpartition("/")[0]


def counts(spec: References, text: str, target: Target) -> bool:
    """Whether what is written somewhere counts as a reference, where its format does not say so for sure."""
    if isinstance(spec, FoundReferences) and target.state == "outside" and not_taken(target.path) == OF_THE_SYSTEM:
        return False  # a program's own library, a system's font: no file of anybody's
    if isinstance(spec, FoundReferences) and spec.form == "markdown" and target.state == "missing":
        # A page that is not written yet, or a place on the web site that the page is made for.
        return "." in text.rpartition("/")[2] and (not text.startswith("/") or somebodys(text))
    if spec.sure:
        return True
    if target.state == "inside":
        return bool(target.path) and re.search(r"[./\\]", text) is not None
    if target.state == "away":
        return False
    return target.state == "outside" or somebodys(text)


def somebodys(text: str) -> bool:
    """Whether a text is written as the full path of something in a person's home or on a drive.

    >>> somebodys("/home/tern/a.mov"), somebodys("file:///Users/tern/a.mov"), somebodys("/usr/lib/x"), somebodys("a/b.txt")
    (True, True, False, False)
    """
    return _SOMEBODYS.match(text) is not None


def _end_of(link: Path) -> str:
    """Return where a chain of links ends, if anything is there; else nothing."""
    try:
        return os.path.realpath(link, strict=True)
    except OSError:
        return ""


def read_references(kind: Kind, library: Path, listing: Walk, home: Path, *, former: str = "") -> ReferenceReport:
    """Read the references of a library by its kind, symbolic links included.

    Parameters
    ----------
    kind : Kind
        Says which files hold references.
    library : Path
        The library's folder.
    listing : Walk
        What lies in it.
    home : Path
        What ``~`` stands for in them.
    former : str
        Where the library was, if it lies elsewhere now; see `Resolver`.
    """
    resolver = Resolver(library, (f.path for f in listing.files), (f.path for f in listing.folders), home, former)
    found: list[Reference] = []
    unread: list[tuple[str, str]] = []

    def take(source: str, raw: Raw, base: str, spec: References | None = None) -> None:
        target = resolver.resolve(raw, base)
        if target is not None and (spec is None or counts(spec, raw.text, target)):
            found.append(Reference(source, raw.spot, raw.text, target.state, target.path, target.moved, target.drive))

    files = {file.path: file for file in listing.files} if kind.references else {}
    for spec in kind.references:
        for path in _worth_reading(spec, spec.among(files), files, prefix_of(library)):
            file = files[path]
            if file.placeholder:  # reading it would fetch it
                unread.append((file.path, "it is only a placeholder"))
                continue
            try:
                for raw in READERS[spec.form](library / file.path, spec):
                    take(file.path, raw, base_of(spec, file.path), spec)
            except UnreadableError as error:
                if not isinstance(spec, FoundReferences):  # else it is just not what it looked like
                    unread.append((file.path, str(error)))
    for link in listing.links:
        target = resolver.resolve(Raw("", link.target), link.path.rpartition("/")[0])
        if target is not None and target.state == "missing" and (end := _end_of(library / link.path)):
            target = resolver.resolve(Raw("", end), "")  # it leads to a link, which leads on
        if target is not None and not _is_interpreter(link.path, library):
            found.append(
                Reference(link.path, "symbolic link", link.target, target.state, target.path, drive=target.drive)
            )
    return ReferenceReport(tuple(found), tuple(unread))


def _worth_reading(
    spec: References, paths: Sequence[str], files: Mapping[str, FileEntry], root: str
) -> Iterator[str]:
    """Yield the files that may hold references: of many sidecars, a quick look leaves few."""
    if spec.form != "xmp":
        yield from paths
        return
    for group in in_groups(paths):
        asked = [(root + path, files[path].size if not files[path].placeholder else 0) for path in group]
        for path, empty in zip(group, name_nothing(asked, spec), strict=True):
            if not empty:
                yield path


def _is_interpreter(link: str, library: Path) -> bool:
    """Whether a link is the interpreter of a Python environment: a program, which its system has, and no file of a person's."""
    folder, _, name = link.rpartition("/")
    environment = library / os.path.dirname(folder)
    return name.startswith("python") and folder.endswith("bin") and (environment / "pyvenv.cfg").is_file()
