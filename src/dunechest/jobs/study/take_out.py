"""What goes from a library with some of its parts, and what of theirs has to stay because others use it."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Sequence
from pathlib import Path

from msgspec.structs import replace

from dunechest.errors import UsageError
from dunechest.findings import Finding
from dunechest.library.capture import NotCapturedError, capture
from dunechest.library.formats.base import UnreadableError
from dunechest.library.formats.sqlite import COMPANIONS
from dunechest.library.join.files import NotMergedError, joins_of, without_parts
from dunechest.library.library import Library
from dunechest.library.parts import Part, parts_named
from dunechest.library.references.reading import READERS, base_of
from dunechest.library.references.resolve import Resolver
from dunechest.machine.folders import own_home
from dunechest.model.findings import finding_of
from dunechest.model.study import Contents, TakeOut
from dunechest.names import shown
from dunechest.transfer import patient


def parts_of(contents: Contents, names: Iterable[str]) -> tuple[Part, ...]:
    """Return the parts of a library that a person named.

    Raises
    ------
    UsageError
        If one of them belongs to none, or to several.
    """
    try:
        return tuple(dict.fromkeys(parts_named(contents.parts, names).values()))
    except KeyError as error:
        known = ", ".join(shown(part.title) for part in contents.parts[:12]) or "none"
        raise UsageError(
            f"{shown(contents.library.name)} has no part {shown(str(error.args[0]))!r}, or several. Its parts: {known}."
        ) from None


def take_out(contents: Contents, parts: Sequence[Part]) -> TakeOut:
    """Say what goes from a library with some parts; the catalogues are tried on copies. Changes nothing."""
    kind, listing = contents.library.kind, contents.listing
    going = _going(contents, parts)
    theirs = {path for part in parts for path in part.files}
    files = tuple(file for file in listing.files if file.path in going)
    units = _units(contents, parts, going)
    edits = tuple(
        file.path for file in listing.files if file.path not in going and joins_of(kind, file.path) is not None
    )
    catalogues = set(edits)
    spots = frozenset(
        (r.source, r.spot)
        for r in contents.references.references
        if r.source in catalogues and r.state == "inside" and r.target not in going
    )
    found = TakeOut(tuple(parts), files, units, edits, tuple(sorted(theirs - going)), spots=spots)
    return replace(found, findings=tuple(_findings(contents, found)))


def _going(contents: Contents, parts: Sequence[Part]) -> set[str]:
    """Return the paths of the files that only these parts use."""
    kind = contents.library.kind
    chosen = set(parts)
    others = {path for part in contents.parts if part not in chosen for path in (*part.files, *part.needed_paths)}
    needs = {path for part in parts for path in part.needed_paths}
    going = {path for part in parts for path in part.files} - others - needs
    pairs = [(r.source, r.target) for r in contents.references.references if r.state == "inside"]
    while True:
        # What stays and is no catalogue that can be edited keeps what it refers to.
        kept = {
            target
            for source, target in pairs
            if target in going and source not in going and joins_of(kind, source) is None
        }
        kept |= _sidecars_of_others(contents, going)
        if not kept:
            return going
        going -= kept


def _sidecars_of_others(contents: Contents, going: Collection[str]) -> set[str]:
    """Return the sidecars among what goes whose own files stay: a sidecar goes with its file."""
    endings = contents.library.kind.sidecars
    sidecars = [path for path in going if path.endswith(endings)] if endings else []
    if not sidecars:
        return set()
    stems: dict[str, list[str]] = {}
    for file in contents.listing.files:
        for stem in {file.path, file.path.rpartition(".")[0]}:
            stems.setdefault(stem, []).append(file.path)
    found = set()
    for path in sidecars:
        stem = path.removesuffix(next(ending for ending in endings if path.endswith(ending)))
        if any(other not in going and not other.endswith(endings) for other in stems.get(stem, ())):
            found.add(path)
    return found


def _units(contents: Contents, parts: Sequence[Part], going: Collection[str]) -> tuple[str, ...]:
    """Return what is renamed, in order: an application that is opened in between finds nothing missing."""
    listing = contents.listing
    folders = []
    for part in parts:
        top = part.folder + "/"
        inside = [file.path for file in listing.files if file.path.startswith(top)] if part.folder else []
        odd = [item.path for item in (*listing.others, *listing.unreadable) if item.path.startswith(top)]
        if part.folder and not odd and all(path in going for path in inside):
            folders.append(part.folder)
    tops = tuple(folder + "/" for folder in folders)
    units = [*folders, *(path for path in sorted(going) if not path.startswith(tops or ("\0",)))]
    sources = {r.source for r in contents.references.references}

    def refers(unit: str) -> bool:
        return unit in sources or any(source.startswith(unit + "/") for source in sources)

    return tuple(sorted(units, key=lambda unit: not refers(unit)))


def _findings(contents: Contents, taken: TakeOut) -> Iterator[Finding]:
    library = contents.library
    application = shown(library.kind.application) or "the application"
    titles = shown(taken.title)
    if not taken.files:
        yield finding_of("nothing-goes", titles=titles, application=application)
        return
    if not _rest(contents, taken):
        yield finding_of("last-part", titles=titles, name=library.name, application=application)
        return
    why = _why_not(contents, taken)
    if why:
        yield finding_of("catalogue", application=application, titles=titles, why=why)


def _rest(contents: Contents, taken: TakeOut) -> bool:
    """Whether anything of worth is left in a library when parts are gone: another part, where parts are folders."""
    chosen = set(taken.parts)
    for spec in contents.library.kind.parts:
        own = [part for part in contents.parts if part.what == spec.what]
        if spec.form == "folders" and own and all(part in chosen for part in own):
            return False
    gone = (
        {file.path for file in taken.files}
        | set(taken.edits)
        | {p for part in taken.parts for p in part.needed_paths}
    )
    return any(
        file.path not in gone
        and file.path not in contents.lock_marks
        and contents.roles.get(file.path) != "rebuildable"
        for file in contents.listing.files
    )


def _why_not(contents: Contents, taken: TakeOut) -> str:
    """Take the parts out of copies of the catalogues; say why that does not leave a library with nothing missing."""
    if not taken.edits:
        return ""
    import tempfile

    going = {file.path for file in taken.files}
    with tempfile.TemporaryDirectory(prefix="dunechest-") as folder:
        top = Path(folder)
        try:
            copies = edited_copies(contents.library, taken, top)
        except (NotMergedError, NotCapturedError, OSError) as error:
            return str(error)
        before = set(_led_to(contents, contents.library.path, copies))
        after = set(_led_to(contents, top, copies))
    still = sorted(after & going)
    if still:
        return f"{still[0]} would still be listed"
    # What the application makes again by itself need not be listed.
    lost = sorted(path for path in before - after - going if contents.roles.get(path) != "rebuildable")
    return f"{lost[0]} stays and would no longer be listed" if lost else ""


def edited_copies(library: Library, taken: TakeOut, top: Path) -> list[str]:
    """Copy the catalogues into a folder and take the parts out of them; return the paths of those that changed.

    Raises
    ------
    NotMergedError, NotCapturedError, OSError
        If one of them is not what it should be.
    """
    kind, place = library.kind, library.path
    going = {file.path for file in taken.files}
    changed = []
    for path in taken.edits:
        spec = joins_of(kind, path)
        assert spec is not None
        target = top / path
        target.parent.mkdir(parents=True, exist_ok=True)
        if spec.form == "sqlite":
            capture(place / path, target, target.parent)
        else:
            import shutil

            shutil.copy2(place / path, target)
        target.chmod(0o600)
        stay = {spot for source, spot in taken.spots if source == path}
        if without_parts(kind, spec, target, taken.names, going, stay):
            changed.append(path)
        else:
            for item in (path, *(path + ending for ending in COMPANIONS)):
                patient.unlink(top / item, missing_ok=True)
    return changed


def _led_to(contents: Contents, root: Path, paths: Iterable[str]) -> Iterator[str]:
    """Yield the files in a library that some catalogues below `root` lead to."""
    listing, kind = contents.listing, contents.library.kind
    names = [file.path for file in listing.files]
    resolver = Resolver(contents.library.path, names, (f.path for f in listing.folders), own_home())
    every = list(paths)
    for spec in kind.references:
        for path in spec.among(every):
            try:
                for raw in READERS[spec.form](root / path, spec):
                    found = resolver.resolve(raw, base_of(spec, path))
                    if found is not None and found.state == "inside":
                        yield found.path
            except UnreadableError:
                continue


def shared_finding(taken: TakeOut) -> Iterator[Finding]:
    """Say which files of parts stay, because others use them."""
    if taken.shared:
        some = ", ".join(shown(path) for path in taken.shared[:3]) + (", ..." if len(taken.shared) > 3 else "")
        yield finding_of("shared", files=len(taken.shared), title=taken.title, some=some)
