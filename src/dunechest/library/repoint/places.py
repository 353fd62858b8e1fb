"""What a reference becomes: old places, and where what lay there is now."""

from __future__ import annotations

import os
from collections.abc import Callable, Mapping, Sequence
from typing import Literal

import msgspec

from dunechest.library.formats.base import Raw
from dunechest.library.references.resolve import Resolver
from dunechest.machine import written_paths
from dunechest.machine.written_paths import Written
from dunechest.paths import BACKSLASHES, prefix_of, slashed

State = Literal["stays", "new", "lost"]


class Pointed(msgspec.Struct, frozen=True):
    """What becomes of a reference: it `stays`, gets a `new` text, or is `lost`: it leads to nothing here."""

    state: State
    text: str = ""
    why: str = ""


class Moves(msgspec.Struct, frozen=True):
    """Where a library and what belonged to it were, and where they are now.

    Parameters
    ----------
    old : str
        The library's old folder, with ``/`` between its pieces.
    new : str
        Its folder here.
    windows : bool
        Whether the old computer divided paths with backslashes and told no cases apart.
    renamed : mapping
        Paths in the library that have another name here.
    inside : callable
        Whether a path of the old library is here, too.
    outside_files : mapping
        Old full path of each gathered file, and its place here.
    folders : sequence of pairs
        Old and new place of standard folders, the most special first.
    home : str
        What ``~`` stands for here.
    old_home : str
        What it stood for, if that can be told.
    """

    old: str
    new: str
    windows: bool
    renamed: Mapping[str, str]
    inside: Callable[[str], bool]
    outside_files: Mapping[str, str]
    folders: Sequence[tuple[str, str]] = ()
    home: str = ""
    old_home: str = ""
    _folded: dict[str, str] = msgspec.field(default_factory=dict)

    @property
    def cases(self) -> bool:
        """Whether the old computer told A from a."""
        return not self.windows

    def outside_file(self, old: str) -> str | None:
        """Return where a gathered file is now."""
        if self.cases:
            return self.outside_files.get(old)
        if not self._folded and self.outside_files:
            self._folded.update({path.casefold(): place for path, place in self.outside_files.items()})
        return self._folded.get(old.casefold())


def point(raw: Raw, base: str, moves: Moves, resolver: Resolver) -> Pointed:
    """Say what a reference becomes.

    Parameters
    ----------
    raw : Raw
        As it is written.
    base : str
        The folder in the library that it is relative to, by its old name.
    moves : Moves
        What went where.
    resolver : Resolver
        Knows the library as it is here.
    """
    if raw.endings or raw.upwards:
        return _loosely(raw, base, moves, resolver)
    written = written_paths.read(raw.text, raw.uri)
    if written is None:
        return Pointed("stays")
    full_uri = bool(written.scheme)
    found = _exactly(written, base, moves) if not full_uri else None
    if found is None and (raw.uri or full_uri) and any(mark in raw.text for mark in "?#"):
        # What stands after it says where in the file; it stays as it is.
        at = min(raw.text.find(mark) for mark in "?#" if mark in raw.text)
        cut = written_paths.read(raw.text[:at], True)
        if cut is not None and (inner := _exactly(cut, base, moves)) is not None:
            tail = raw.text[at:]
            return Pointed(inner.state, inner.text + tail if inner.text else "", inner.why)
    if found is None and full_uri:
        found = _exactly(written, base, moves)
    if found is not None:
        return found
    known = resolver.resolve(raw, base)
    if known is None or known.state in ("away", "outside", "folder"):
        return Pointed("stays")
    if known.state == "inside":
        # A relative one that was found all the same, by another form of its accents, led here before, too.
        if not known.moved and (written.full or not written.backslashes):
            return Pointed("stays")
        full = os.path.join(moves.new, *known.path.split("/"))
        return _written(full, written, base, moves, raw.text)
    return Pointed("lost", why="it leads to nothing here")


def _loosely(raw: Raw, base: str, moves: Moves, resolver: Resolver) -> Pointed:
    """Say what becomes of a reference that may mean several things: what the first does that leads somewhere."""
    first = None
    for reading, above in raw.readings(base):
        found = point(reading, above, moves, resolver)
        if found.state != "lost":
            ending = reading.text.removeprefix(raw.text)
            return Pointed(found.state, found.text.removesuffix(ending) if ending else found.text, found.why)
        first = first or found
    return first or Pointed("stays")


def _exactly(written: Written, base: str, moves: Moves) -> Pointed | None:
    """Follow a reference by the old places; None if they do not tell."""
    if written.form == "home":
        if not moves.old_home:
            return None
        old = written_paths.normal(f"{moves.old_home}/{written.path}")
    elif written.full:
        old = written_paths.normal(written.path)
    else:
        old = written_paths.normal("/".join(filter(None, (moves.old, base, written.path))))
    inner = written_paths.below(old, moves.old, cases=moves.cases)
    if inner == "":
        return _written(moves.new, written, base, moves)
    if inner is not None:
        if not moves.inside(inner):
            return None
        return _written(os.path.join(moves.new, *moves.renamed.get(inner, inner).split("/")), written, base, moves)
    place = moves.outside_file(old)
    if place is not None:
        return _written(place, written, base, moves)
    for before, now in moves.folders:
        rest = written_paths.below(old, before, cases=moves.cases)
        if rest is not None:
            new = os.path.join(now, *rest.split("/")) if rest else now
            if os.path.lexists(new):
                return _written(new, written, base, moves)
    return None


def _written(full: str, like: Written, base: str, moves: Moves, before: str = "") -> Pointed:
    """Write the full path of this computer as the old one was written; say if that is the same text."""
    if like.full:
        if like.form == "home" and not full.startswith(prefix_of(moves.home)):
            like = Written(like.path, "plain", True)
        text = written_paths.write(full, like, home=moves.home)
        same = _same(full, like, moves)
    else:
        here = moves.renamed.get(base, base)
        start = os.path.join(moves.new, *here.split("/")) if here else moves.new
        path = slashed(os.path.relpath(full, start))
        # A path that leads there already stays as it is, whatever detours it takes.
        same = os.path.normpath(os.path.join(start, like.path)) == os.path.normpath(full)
        same = same and not (like.backslashes and not BACKSLASHES)
        text = written_paths.write(path, written_paths.as_relative(like))
    return Pointed("stays") if same or text == before else Pointed("new", text)


def _same(full: str, like: Written, moves: Moves) -> bool:
    path = os.path.join(moves.home, like.path) if like.form == "home" else like.path
    return written_paths.normal(path) == written_paths.normal(slashed(full))
