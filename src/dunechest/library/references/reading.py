"""Read all references of a library, and say where each leads."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

import msgspec

from dunechest.library.formats import bibliographies, keyed, markup, playlists, tables
from dunechest.library.formats.base import Raw, UnreadableError
from dunechest.library.kinds.patterns import Patterns
from dunechest.library.kinds.schema import Kind, References
from dunechest.library.references.resolve import Resolver, State
from dunechest.transfer.walk import Walk

Reader = Callable[[Path, References], Iterator[Raw]]

READERS: dict[str, Reader] = {
    "sqlite": tables.read_sqlite,
    "m3u8": playlists.read_m3u8,
    "xspf": playlists.read_xspf,
    "bibtex": bibliographies.read_bibtex,
    "csl-json": bibliographies.read_csl,
    "ris": bibliographies.read_ris,
    "xmp": markup.read_xmp,
    "markdown": markup.read_markdown,
    "html": markup.read_html,
    "json": keyed.read_keyed,
    "toml": keyed.read_keyed,
    "ini": keyed.read_keyed,
}


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
        ``inside``, ``stray``, ``missing``, ``away`` (outside this machine) or ``folder``
        (a folder outside the library).
    target : str
        Path in the library if inside, else the full path or address.
    moved : bool
        Whether it names another place, and the file was known by the end of its path.
    drive : str
        Name of the drive that a missing one was on, if that can be told.
    """

    source: str
    spot: str
    text: str
    state: State
    target: str
    moved: bool = False
    drive: str = ""


@dataclass(frozen=True, slots=True)
class ReferenceReport:
    """All references of a library, and the files whose references could not be read, with the reason."""

    references: tuple[Reference, ...] = ()
    unread: tuple[tuple[str, str], ...] = ()


def base_of(spec: References, source: str) -> str:
    """Return the folder in the library that a file's references are relative to."""
    if spec.base == ".":
        return ""
    return spec.base or source.rpartition("/")[0]


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

    def take(source: str, raw: Raw, base: str) -> None:
        target = resolver.resolve(raw, base)
        if target is not None:
            found.append(Reference(source, raw.spot, raw.text, target.state, target.path, target.moved, target.drive))

    files = {file.path: file for file in listing.files} if kind.references else {}
    for spec in kind.references:
        for path in Patterns(spec.files).among(files):
            file = files[path]
            if file.hollow:  # reading it would fetch it
                unread.append((file.path, "it is hollow"))
                continue
            try:
                for raw in READERS[spec.form](library / file.path, spec):
                    take(file.path, raw, base_of(spec, file.path))
            except UnreadableError as error:
                unread.append((file.path, str(error)))
    for link in listing.links:
        take(link.path, Raw("symbolic link", link.target), link.path.rpartition("/")[0])
    return ReferenceReport(tuple(found), tuple(unread))
