"""Parts of a library: what a person names and may take alone, with the files that belong to each."""

from __future__ import annotations

import os
from bisect import bisect_left
from collections.abc import Iterable, Mapping
from functools import cached_property
from pathlib import Path
from typing import ClassVar

import msgspec

from dunechest.library.formats.base import Raw, UnreadableError, text_of
from dunechest.library.formats.bibliographies import attachments, bibtex_entries
from dunechest.library.formats.keyed import document_of, values
from dunechest.library.formats.tables import part_rows
from dunechest.library.kinds.patterns import Patterns
from dunechest.library.kinds.schema import Kind, Parts, References
from dunechest.library.references.reading import Reference, base_of
from dunechest.library.references.resolve import Resolver
from dunechest.transfer.walk import Walk


class Part(msgspec.Struct, frozen=True):
    """A part of a library.

    Parameters
    ----------
    what, name, title : str
        What such a part is called, its own name, and what people know it by.
    files : tuple of str
        Its files, paths in the library: its own, and what they refer to.
    needed_paths : tuple of str
        Files that it is worth nothing without: the database, the index, the descriptor.
    outside_paths : tuple of str
        Full paths of files outside the library that it refers to.
    size_bytes : int
        Of its files and outside files, without what it needs.
    folder : str
        The folder in the library that it is, if it is one: links and empty folders in it belong to it.
    elsewhere : tuple of str
        What an index says of it that leads to no file that is there, as it is written.
    """

    _told: ClassVar[tuple[str, ...]] = (
        "what",
        "name",
        "title",
        "file_count",
        "size_bytes",
        "outside_paths",
        "needed_paths",
    )

    what: str
    name: str
    title: str
    files: tuple[str, ...]
    needed_paths: tuple[str, ...]
    outside_paths: tuple[str, ...]
    size_bytes: int
    folder: str = ""
    elsewhere: tuple[str, ...] = ()

    @property
    def file_count(self) -> int:
        """Number of its files."""
        return len(self.files)


class _Gathering:
    def __init__(self) -> None:
        self.files: set[str] = set()
        self.elsewhere: set[str] = set()
        self.outside_files: set[str] = set()
        self.folder = ""


def list_parts(
    kind: Kind, library: Path, listing: Walk, references: Iterable[Reference], home: Path, *, former: str = ""
) -> tuple[Part, ...]:
    """List the parts of a library, by what they are and by name.

    Parameters
    ----------
    kind : Kind
        Says what its parts are.
    library : Path
        The library's folder.
    listing : Walk
        What lies in it.
    references : iterable of Reference
        What its files refer to.
    home : Path
        What ``~`` stands for.
    former : str
        Where the library was, if it lies elsewhere now; see `Resolver`.
    """
    if not kind.parts:
        return ()
    maker = _Maker(kind, library, listing, references, home, former)
    found: list[Part] = []
    for spec in kind.parts:
        found += maker.parts(spec)
    return tuple(sorted(found, key=lambda part: (part.what, part.name)))


class _Maker:
    def __init__(
        self,
        kind: Kind,
        library: Path,
        listing: Walk,
        references: Iterable[Reference],
        home: Path,
        former: str,
    ) -> None:
        self._kind = kind
        self._library = library
        self._listing = listing
        self._sizes = {file.path: file.size for file in listing.files}
        self._placeholders = {file.path for file in listing.files if file.placeholder}
        self._by_source: dict[str, list[Reference]] = {}
        for reference in references:
            self._by_source.setdefault(reference.source, []).append(reference)
        self._resolver = Resolver(library, self._sizes, (f.path for f in listing.folders), home, former)
        self._stems: dict[str, list[str]] = {}
        if kind.sidecars:
            for path in self._sizes:
                if path.endswith(kind.sidecars):
                    ending = next(e for e in kind.sidecars if path.endswith(e))
                    self._stems.setdefault(path.removesuffix(ending), []).append(path)

    def _below(self, folder: str) -> list[str]:
        """Return the files at any depth of a folder: in their order they stand together."""
        paths = self._in_order
        return paths[bisect_left(paths, f"{folder}/") : bisect_left(paths, f"{folder}0")]  # 0 comes after the slash

    @cached_property
    def _in_order(self) -> list[str]:
        return sorted(self._sizes)

    def parts(self, spec: Parts) -> list[Part]:
        """Return the parts of one sort."""
        gathered: dict[str, _Gathering] = {}
        wanted = Patterns(spec.paths)
        if spec.form == "folders":
            for folder in self._listing.folders:
                if folder.path and wanted.match(folder.path):
                    part = gathered.setdefault(_name(folder.path, spec.paths), _Gathering())
                    part.folder = folder.path
                    part.files.update(self._below(folder.path))
            return [self._finish(spec, name, item, follow=True) for name, item in gathered.items()]
        for path in wanted.among(self._sizes):
            if path not in self._placeholders:
                self._from_file(spec, path, gathered)
        return [self._finish(spec, name, item, follow=spec.form == "files") for name, item in gathered.items()]

    def _from_file(self, spec: Parts, path: str, gathered: dict[str, _Gathering]) -> None:
        try:
            if spec.form == "files":
                gathered.setdefault(_name(path, spec.paths), _Gathering()).files.add(path)
            elif spec.form == "sqlite":
                target = next(r for r in self._kind.references if r.name == spec.references)
                for name, text in part_rows(self._library / path, spec, target):
                    self._add(gathered.setdefault(name, _Gathering()), text, target, path)
            else:
                self._from_bibliography(spec, path, gathered)
        except UnreadableError:
            return  # the reading of references reports it

    def _from_bibliography(self, spec: Parts, path: str, gathered: dict[str, _Gathering]) -> None:
        target = next((r for r in self._kind.references if r.among([path])), None)
        for entry in bibtex_entries(text_of(self._library / path)):
            names = [name.strip() for name in entry.fields.get(spec.field.lower(), "").split(",")]
            for name in filter(None, names):
                gathering = gathered.setdefault(name, _Gathering())
                for field in target.fields if target and target.fields else ("file",):
                    for text in attachments(entry.fields.get(field, "")):
                        if target is not None:
                            self._add(gathering, text, target, path)

    def _add(self, gathering: _Gathering, text: str | None, target: References, source: str) -> None:
        if text is None:
            return
        found = self._resolver.resolve(Raw("", text), base_of(target, source))
        if found is not None and found.state == "inside" and found.path in self._sizes:
            gathering.files.add(found.path)
        elif found is not None and found.state == "outside":
            gathering.outside_files.add(found.path)
        else:
            gathering.elsewhere.add(text)

    def _finish(self, spec: Parts, name: str, gathering: _Gathering, *, follow: bool) -> Part:
        """Add what the part's files refer to, what goes with them, and what it needs."""
        needs = self._matching(spec.needs)
        files = gathering.files
        also = tuple(pattern.replace("{part}", name) for pattern in spec.also)
        files |= self._matching(also)
        pending = list(files) if follow else []
        while pending:
            for reference in self._by_source.get(pending.pop(), ()):
                if reference.state == "outside":
                    gathering.outside_files.add(reference.target)
                elif reference.target in self._sizes and reference.target not in files:
                    files.add(reference.target)
                    pending.append(reference.target)
        for path in list(files):
            stem = path.rpartition(".")[0] if "." in path.rpartition("/")[2] else path
            files.update(self._stems.get(stem, ()))
            files.update(self._stems.get(path, ()))
        needs -= files
        size = sum(self._sizes[path] for path in files) + sum(_size(path) for path in gathering.outside_files)
        return Part(
            spec.what,
            name,
            self._title(spec, name, gathering.folder) or name,
            tuple(sorted(files)),
            tuple(sorted(needs)),
            tuple(sorted(gathering.outside_files)),
            size,
            gathering.folder,
            tuple(sorted(gathering.elsewhere)),
        )

    def _title(self, spec: Parts, name: str, folder: str) -> str:
        """Return the name that people know a part by."""
        path = spec.named_in.replace("{part}", name)
        for place in (path, f"{folder}/{path}"):
            if path and place in self._sizes and place not in self._placeholders:
                form = {".json": "json", ".ini": "ini"}.get(os.path.splitext(place)[1], "toml")
                try:
                    document = document_of(self._library / place, form)
                except UnreadableError:
                    return ""
                return next((text for _, text in values(document, tuple(spec.named_by.split(".")), ())), "")
        return ""

    def _matching(self, patterns: tuple[str, ...]) -> set[str]:
        if not patterns:
            return set()
        wanted = Patterns(patterns)
        return set(wanted.among(self._sizes))


def _name(path: str, patterns: tuple[str, ...]) -> str:
    """Return the name of a folder or file, without the ending that all of its sort have."""
    name = path.rpartition("/")[2]
    for pattern in patterns:
        stem, dot, ending = pattern.rpartition("/")[2].rpartition(".")
        if dot and stem == "*" and name.endswith(dot + ending) and name != dot + ending:
            return name.removesuffix(dot + ending)
    return name


def _size(path: str) -> int:
    try:
        return Path(path).stat().st_size
    except OSError:
        return 0


def parts_named(parts: Iterable[Part], names: Iterable[str]) -> Mapping[str, Part]:
    """Return the parts of those names or titles (``what:name`` where two sorts share one).

    Raises
    ------
    KeyError
        With the first name that belongs to none, or to several.
    """
    by_name: dict[str, list[Part]] = {}
    for part in parts:
        for key in {
            f"{before}{name}".casefold() for name in (part.name, part.title) for before in ("", f"{part.what}:")
        }:
            by_name.setdefault(key, []).append(part)
    chosen = {}
    for name in names:
        found = by_name.get(name.casefold(), [])
        if len(found) != 1:
            raise KeyError(name)
        chosen[name] = found[0]
    return chosen
