"""Kind files: what a sort of library looks like, written in TOML.

The format is documented in ``docs/kind-files.md``. Shipped kinds are package data;
a person's own lie in ``kinds/`` of this machine's state folder and win over a
shipped one of the same name.
"""

from __future__ import annotations

import re
import tomllib
from collections.abc import Mapping
from functools import cached_property
from importlib import resources
from pathlib import Path

import msgspec

from dunechest.errors import KindFileError, WordsOff
from dunechest.names import shown, slug
from dunechest.transfer import safe

FORMAT = 1

#: The kind of whatever no kind file describes.
PLAIN = "folder"

_MOST = 1 << 20


class Sign(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """One thing that must be so for a folder to be of the kind.

    `path` is a pattern relative to the library; with a ``/`` at the end it names a
    folder. `begins` is text the file begins with; `tables` are tables an SQLite
    database has.
    """

    path: str
    begins: str = ""
    tables: tuple[str, ...] = ()


class Roles(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Patterns of files that the application can make again; all others are essential."""

    rebuildable: tuple[str, ...] = ()


class InUse(msgspec.Struct, frozen=True, forbid_unknown_fields=True, rename="kebab"):
    """Lock marks: patterns of files that hold the number of the process that has the library open."""

    lock_marks: tuple[str, ...] = ()


class Elsewhere(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Something of the application's that lies outside the library: what, and where."""

    what: str
    place: str


class Kind(msgspec.Struct, frozen=True, forbid_unknown_fields=True, dict=True):
    """A kind, as its file says it.

    Attributes
    ----------
    name, title, about : str
        Name (a slug), title in words, and a sentence.
    application : str
        The application that keeps such libraries.
    places : dict
        Where they are, by operating system; a place begins with a standard folder
        in braces and may hold patterns.
    signs : tuple of Sign
        All must be so.
    together : tuple of tuples
        Files and folders of which none is worth anything without the others.
    databases : tuple of str
        Patterns of the SQLite databases.
    """

    format: int
    name: str
    title: str
    about: str = ""
    application: str = ""
    places: dict[str, tuple[str, ...]] = {}
    signs: tuple[Sign, ...] = ()
    together: tuple[tuple[str, ...], ...] = ()
    databases: tuple[str, ...] = ()
    roles: Roles = Roles()
    in_use: InUse = msgspec.field(default=InUse(), name="in-use")
    elsewhere: tuple[Elsewhere, ...] = ()

    @cached_property
    def rebuildable(self) -> Patterns:
        """Patterns of rebuildable files."""
        return Patterns(self.roles.rebuildable)

    @cached_property
    def database_patterns(self) -> Patterns:
        """Patterns of databases."""
        return Patterns(self.databases)

    @cached_property
    def lock_patterns(self) -> Patterns:
        """Patterns of lock marks."""
        return Patterns(self.in_use.lock_marks)


class Patterns:
    """Path patterns: ``*`` within a name, ``**`` across folders, ``?`` one character.

    >>> p = Patterns(["previews/**", "*.cache"])
    >>> [p.match(x) for x in ("previews/a/b.jpg", "a.cache", "x/a.cache")]
    [True, True, False]
    """

    def __init__(self, patterns: tuple[str, ...] | list[str]) -> None:
        self.patterns = tuple(patterns)
        self._one = re.compile("|".join(f"(?:{_regex(p)})" for p in patterns), re.DOTALL) if patterns else None

    def match(self, path: str) -> bool:
        """Whether a relative path matches one of them, whole."""
        return self._one is not None and self._one.fullmatch(path) is not None


def _regex(pattern: str) -> str:
    out = []
    place = 0
    while place < len(pattern):
        if pattern.startswith("**/", place):
            out.append("(?:[^/]+/)*")
            place += 3
        elif pattern.startswith("**", place):
            out.append(".*")
            place += 2
        elif pattern[place] == "*":
            out.append("[^/]*")
            place += 1
        elif pattern[place] == "?":
            out.append("[^/]")
            place += 1
        else:
            out.append(re.escape(pattern[place]))
            place += 1
    return "".join(out)


def parse_kind(text: str, where: str) -> Kind:
    """Read the text of a kind file.

    Parameters
    ----------
    text : str
        TOML.
    where : str
        What to call the file in an error.

    Raises
    ------
    KindFileError
        With the place of the mistake.
    """
    where = shown(where)
    try:
        raw = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise KindFileError(f"{where}: not TOML: {error}") from error
    if isinstance(raw.get("format"), int) and raw["format"] > FORMAT:
        raise KindFileError(f"{where}: format {raw['format']} is newer than this version understands ({FORMAT}).")
    try:
        kind = msgspec.convert(raw, Kind)
    except msgspec.ValidationError as error:
        raise KindFileError(f"{where}: {shown(str(error))}") from error
    if kind.format != FORMAT:
        raise KindFileError(f"{where}: format must be {FORMAT}.")
    if kind.name != slug(kind.name) or kind.name == PLAIN:
        raise KindFileError(f"{where}: name {shown(kind.name)!r} must be a short plain name, and not {PLAIN!r}.")
    if not kind.signs:
        raise KindFileError(f"{where}: signs: at least one is needed, or every folder would be of this kind.")
    for system, places in kind.places.items():
        if system not in ("linux", "macos", "windows"):
            raise KindFileError(f"{where}: places: {shown(system)!r} is not linux, macos or windows.")
        for place in places:
            if not re.match(r"\{[a-z]+\}(/|\Z)", place) or ".." in place.split("/"):
                raise KindFileError(
                    f"{where}: places: {shown(place)!r} must begin with a standard folder, such as {{home}}/..."
                )
    return kind


PLAIN_KIND = Kind(format=FORMAT, name=PLAIN, title="Plain folder or file", about="Anything named by its path.")


def load_kinds(own: Path | None = None) -> Mapping[str, Kind]:
    """Load the shipped kinds and a person's own.

    Parameters
    ----------
    own : Path, optional
        The state folder; kind files lie in ``kinds/`` below it.

    Returns
    -------
    mapping
        Kinds by name.

    Raises
    ------
    KindFileError
        If one of the files has a mistake.
    """
    kinds: dict[str, Kind] = {}
    for item in sorted(resources.files("dunechest.library.kindfiles").iterdir(), key=lambda i: i.name):
        if item.name.endswith(".toml"):
            kind = parse_kind(item.read_text(encoding="utf-8"), item.name)
            kinds[kind.name] = kind
    if own is not None:
        for path in sorted((own / "kinds").glob("*.toml")):
            kind = read_kind(path)
            kinds[kind.name] = kind
    return kinds


def read_kind(path: Path) -> Kind:
    """Read one kind file.

    Raises
    ------
    KindFileError
        If it cannot be read or has a mistake.
    """
    try:
        text = safe.read_bounded(path, _MOST).decode("utf-8")
    except (OSError, ValueError) as error:
        raise KindFileError(f"{shown(str(path))} cannot be read: {error}") from error
    return parse_kind(text, str(path))


def kind_named(kinds: Mapping[str, Kind], name: str) -> Kind:
    """Return a kind by name, or say which there are."""
    if name == PLAIN:
        return PLAIN_KIND
    try:
        return kinds[name]
    except KeyError:
        known = ", ".join(sorted([*kinds, PLAIN]))
        raise WordsOff(f"There is no kind {shown(name)!r} here. Known kinds: {known}.") from None
