"""The schema of a kind file: what a sort of library looks like, as plain values.

The format is documented in ``docs/kind-files.md``.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping, Set
from functools import cached_property
from typing import ClassVar, Literal

import msgspec

from dunechest.library.kinds.patterns import Patterns
from dunechest.values import FrozenDict

FORMAT = 1

#: The kind of whatever no kind file describes.
PLAIN = "folder"


class Sign(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """One sign that a folder must show to be of the kind.

    Attributes
    ----------
    path : str
        A pattern relative to the library, ``{a,b}`` for one or the other; with a ``/`` at the end it names a folder.
    begins, holds : str
        Text the file begins with, or holds in its first 64 KiB.
    tables : tuple of str
        Tables an SQLite database has.
    endings : tuple of str
        Endings of files: so many (`count`) files in the folder and below it have one of them, and make up this `share` of
        all files there (0 to 1). With the `path` of a folder: so many are there, and such a share of the folders.
    name : str
        A pattern of the folder's own name.
    """

    path: str = ""
    begins: str = ""
    holds: str = ""
    tables: tuple[str, ...] = ()
    endings: tuple[str, ...] = ()
    count: int = 1
    share: float = 0.0
    name: str = ""


class Roles(msgspec.Struct, frozen=True, forbid_unknown_fields=True, rename="kebab"):
    """Patterns of files by role; a file that none names is essential.

    `rebuildable` files the application can make again; `must_not_leave` ones were
    bought or licensed for this computer and are never archived. `half_made` are files of
    something the application has begun and not finished, a download: where a library is joined
    into one that has such, they are set aside. `essential` ones are so though another pattern names them.
    """

    rebuildable: tuple[str, ...] = ()
    must_not_leave: tuple[str, ...] = ()
    half_made: tuple[str, ...] = ()
    essential: tuple[str, ...] = ()


class InUse(msgspec.Struct, frozen=True, forbid_unknown_fields=True, rename="kebab"):
    """What marks a library as in use, besides an open file.

    `lock_marks` are patterns of files that hold the number of the process that has the
    library open; `processes` are names of the application's processes; `databases`
    are patterns of SQLite databases on which a lock of another process counts.
    """

    lock_marks: tuple[str, ...] = ()
    processes: tuple[str, ...] = ()
    databases: tuple[str, ...] = ()


Form = Literal[
    "sqlite", "m3u8", "pls", "xspf", "bibtex", "csl-json", "ris", "xmp", "markdown", "html", "svg", "css", "latex",
    "ipynb", "json", "toml", "ini", "includes", "lines",
]  # fmt: skip


class References(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """Where files of the library name other files.

    Attributes
    ----------
    form : str
        How they are written; ``from`` in the kind file.
    files : tuple of str
        Patterns of the files that hold them.
    name : str
        A name by which a part can speak of them.
    table, column : str
        For ``sqlite``: the table, and the column with the whole path, or the name.
    folder, join : str
        For ``sqlite``, where a folder and a name make the path: the folder's column
        (``column`` or ``table.column``), and for another table what joins the two
        (``table.column = table.column``).
    keys : tuple of str
        For ``json``, ``toml``, ``ini``: the keys, with dots between, ``*`` for any and ``**`` for any at any depth.
    fields : tuple of str
        For ``bibtex``, ``csl-json``, ``ris``, ``xmp``: fields other than the usual ones.
    base : str
        What relative paths are relative to: the file's own folder if empty, ``.`` for
        the library, or a folder in the library.
    sure : bool
        Whether each text is a reference. If not, one that leads to nothing only counts where it is written as the full
        path of a file of somebody's.
    """

    form: Form = msgspec.field(name="from")
    files: tuple[str, ...]
    name: str = ""
    table: str = ""
    column: str = ""
    folder: str = ""
    join: str = ""
    keys: tuple[str, ...] = ()
    fields: tuple[str, ...] = ()
    base: str = ""
    sure: bool = True

    def among(self, paths: Collection[str]) -> list[str]:
        """Return those of many paths that hold such references."""
        return Patterns(self.files).among(paths)


class FoundReferences(References, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """References that no kind file names, in files known by their content; `files` are paths as they are."""

    def among(self, paths: Collection[str]) -> list[str]:
        """Return those of many paths that hold such references."""
        there = paths if isinstance(paths, Set | Mapping) else set(paths)
        return [path for path in self.files if path in there]


class Parts(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True, rename="kebab"):
    """What can be archived and restored separately.

    Attributes
    ----------
    what : str
        What such a part is called: album, playlist, title, project.
    form : str
        ``folders``: each folder that `paths` matches; ``files``: each file, with what
        it refers to; ``sqlite``: rows of a table; ``bibtex``: values of a field. ``from``
        in the kind file.
    paths : tuple of str
        Patterns of those folders, files, databases or bibliographies.
    also : tuple of str
        Patterns of files that go with one part; ``{part}`` stands for its name.
    needs : tuple of str
        Patterns of files that every part needs: the database, the index.
    named_in, named_by : str
        For ``folders``: the JSON, TOML or INI file that holds the name people know the
        part by, ``{part}`` standing for the folder's, and the key in it.
    table, column : str
        For ``sqlite``: where the parts' names are.
    joins : tuple of str
        For ``sqlite``: what leads from there to the rows of `references`.
    references : str
        For ``sqlite``: the name of the references that are the part's files.
    field : str
        For ``bibtex``: the field whose values, with commas between, are the parts.
    """

    what: str
    form: Literal["folders", "files", "sqlite", "bibtex"] = msgspec.field(name="from")
    paths: tuple[str, ...]
    also: tuple[str, ...] = ()
    needs: tuple[str, ...] = ()
    named_in: str = ""
    named_by: str = ""
    table: str = ""
    column: str = ""
    joins: tuple[str, ...] = ()
    references: str = ""
    field: str = ""


class JoinTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """A table of a database that can be merged.

    Attributes
    ----------
    name : str
        The table.
    same : tuple of str
        Two rows are the same thing if these columns are.
    refers : dict
        Columns that hold the number of a row in another table of the list: column, and table.
    """

    name: str
    same: tuple[str, ...]
    refers: dict[str, str] = {}

    def __post_init__(self) -> None:
        msgspec.structs.force_setattr(self, "refers", FrozenDict(self.refers))


class Joins(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """Files that can be merged when a library is merged into another of its kind.

    Attributes
    ----------
    form : str
        ``sqlite``, ``bibtex``, ``json`` or ``ini``; ``from`` in the kind file.
    files : tuple of str
        Patterns of those files.
    tables : tuple of JoinTable
        For ``sqlite``: the tables that are joined, each after those it refers to.
    keys : tuple of str
        For ``json`` and ``ini``: the tables whose keys are brought together, with dots between names.
    """

    form: Literal["sqlite", "bibtex", "json", "ini"] = msgspec.field(name="from")
    files: tuple[str, ...]
    tables: tuple[JoinTable, ...] = ()
    keys: tuple[str, ...] = ()


class Agreement(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """Descriptors that say what is in a folder: JSON, TOML or INI files, read as `form` says.

    Attributes
    ----------
    form : str
        ``json``, ``toml`` or ``ini``; ``from`` in the kind file.
    files : tuple of str
        Patterns of the descriptors.
    folder : str
        The key that holds the folder, a path in the library.
    count, bytes : str
        The keys that hold how many files are in it, and their bytes; empty if none does.
    """

    form: Literal["json", "toml", "ini"] = msgspec.field(name="from")
    files: tuple[str, ...]
    folder: str
    count: str = ""
    bytes: str = ""


class Setting(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A setting of the application that holds the library's path: JSON, TOML or INI `file`, and the `key` in it."""

    file: str
    key: str


class Elsewhere(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Something the application keeps outside the library: what, and where."""

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
    open : bool
        Whether it is known by an open format and not by an application: such a kind is tried after all others, and a folder
        of it may hold libraries of other kinds.
    places : dict
        Where they are, by operating system; a place begins with a standard folder
        in braces and may hold patterns.
    signs : tuple of Sign
        All must be so.
    together : tuple of tuples
        Files and folders of which none is worth anything without the others.
    databases : tuple of str
        Patterns of the SQLite databases.
    sidecars : tuple of str
        Endings of the files that go with one of the same name: ``.xmp``.
    roles, in_use, references, parts, settings, elsewhere, joins, agreements
        See their types.
    """

    #: Its document is what its file says.
    _told: ClassVar[None] = None

    format: int
    name: str
    title: str
    about: str = ""
    application: str = ""
    open: bool = False
    places: dict[str, tuple[str, ...]] = {}
    signs: tuple[Sign, ...] = ()
    together: tuple[tuple[str, ...], ...] = ()
    databases: tuple[str, ...] = ()
    sidecars: tuple[str, ...] = ()
    roles: Roles = Roles()
    in_use: InUse = msgspec.field(default=InUse(), name="in-use")
    references: tuple[References, ...] = ()
    parts: tuple[Parts, ...] = ()
    settings: tuple[Setting, ...] = ()
    elsewhere: tuple[Elsewhere, ...] = ()
    joins: tuple[Joins, ...] = ()
    agreements: tuple[Agreement, ...] = ()

    def __post_init__(self) -> None:
        msgspec.structs.force_setattr(self, "places", FrozenDict(self.places))

    @cached_property
    def kept(self) -> Patterns:
        """Patterns of files that are essential, whatever else names them."""
        return Patterns(self.roles.essential)

    @cached_property
    def rebuildable(self) -> Patterns:
        """Patterns of rebuildable files."""
        return Patterns(self.roles.rebuildable)

    @cached_property
    def not_essential(self) -> Patterns:
        """Patterns of all files that are anything but essential."""
        return Patterns((*self.roles.must_not_leave, *self.roles.rebuildable, *self.in_use.lock_marks))

    @cached_property
    def must_not_leave(self) -> Patterns:
        """Patterns of files that may not leave the computer."""
        return Patterns(self.roles.must_not_leave)

    @cached_property
    def half_made(self) -> Patterns:
        """Patterns of what the application has begun and not finished."""
        return Patterns(self.roles.half_made)

    @cached_property
    def locked_databases(self) -> Patterns:
        """Patterns of databases on which a lock means that the library is in use."""
        return Patterns(self.in_use.databases)

    @cached_property
    def database_patterns(self) -> Patterns:
        """Patterns of databases."""
        return Patterns(self.databases)

    @cached_property
    def lock_patterns(self) -> Patterns:
        """Patterns of lock marks."""
        return Patterns(self.in_use.lock_marks)


PLAIN_KIND = Kind(format=FORMAT, name=PLAIN, title="Plain folder or file", about="Anything named by its path.")
