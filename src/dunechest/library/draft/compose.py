"""Put a draft together: what was observed, as a commented kind file."""

from __future__ import annotations

import json
import os
import re
from collections import Counter, defaultdict
from pathlib import Path
from typing import ClassVar

import msgspec

from dunechest.errors import UsageError
from dunechest.library.draft.databases import column_references, databases_in, tables_of
from dunechest.library.draft.documents import csl_references, keyed_references, text_references, toml_text
from dunechest.library.draft.observing import Ground, Observation, Sureness, ending, ground_of, impersonal, pattern_of
from dunechest.library.draft.rebuildable import rebuildable_folders
from dunechest.library.kinds.load import parse_kind
from dunechest.library.kinds.patterns import Patterns
from dunechest.library.kinds.schema import Kind
from dunechest.machine.folders import place_of
from dunechest.machine.identity import system_name
from dunechest.machine.processes import openers as openers_of
from dunechest.names import shown, slug
from dunechest.regex import late
from dunechest.values import Value

#: Bytes: a sidecar is no larger.
_SIDECAR = 256 << 10
#: Bytes: a lock mark is no larger.
_MARK = 128
_LOCK = late(r"(^|[._-])(lock|locked|open|pid|in-use)($|[._-])", re.IGNORECASE)
#: Keys whose values are patterns of paths; of some of these more must not match than what was seen.
_PATHS = frozenset({"path", "paths", "files", "databases"})
_NARROW = frozenset({"lock-marks", "rebuildable", "must-not-leave"})


class Draft(Value, msgspec.Struct, frozen=True):
    """A drafted kind file: its text, the kind it describes, and the observations behind each line."""

    _rows: ClassVar[str] = "lines"

    text: str
    kind: Kind
    lines: tuple[Observation, ...]


def draft_kind(folder: str | os.PathLike[str], *, name: str | None = None, home: Path | None = None) -> Draft:
    """Study the library of an unknown application, and draft its kind file.

    Nothing is changed, and no placeholder is opened.

    Parameters
    ----------
    folder : path
        The library.
    name : str, optional
        Name of the kind; the folder's by default.
    home : Path, optional
        Whose home it is, for the places; one's own by default.

    Returns
    -------
    Draft

    Raises
    ------
    UsageError
        If there is no such folder, or nothing in it.
    CutOffError
        If it cannot be listed.
    """
    ground = ground_of(folder, home)
    place, own = ground.folder, ground.home
    if not ground.files:
        raise UsageError(f"There are no files in {shown(str(place))}, so nothing can be drafted.")
    databases = databases_in(ground)
    sorts = _sorts(databases)
    observed: list[Observation] = []
    observed += _signs(ground, sorts)
    observed += [
        Observation("", (("databases", [pattern_of(paths)]),), "sure", "by its first bytes") for paths in sorts
    ]
    references = [o for paths in sorts for o in column_references(ground, paths)]
    references += [*text_references(ground), *csl_references(ground), *keyed_references(ground)]
    holding = {p for o in references if o.sureness != "guess" for p in _files_of(ground, o)} | set(databases)
    observed += rebuildable_folders(ground, holding)
    observed += _sidecars(ground)
    observed += _in_use(ground, sorts)
    observed += references
    observed += _together(ground, references)
    observed += _parts(ground, references)
    observed += _bought(ground)
    observed = [kept for item in observed if (kept := _impersonal(ground, item, own.name)) is not None]
    title = impersonal(place.name, own.name).replace("*", "").strip(" -_.") or "Library"
    kind_name = slug(name or title)
    where = place_of(place, own)
    text = _text(kind_name, title, f"{{{where[0]}}}/*" if where else "", observed)
    return Draft(text, parse_kind(text, kind_name), tuple(observed))


def _impersonal(ground: Ground, item: Observation, person: str) -> Observation | None:
    """Return what was observed as it is so for others: a kind file is passed on, and names nobody.

    What cannot be said so is left out: two names that belong together, or a role that would then fit files that were not
    looked at for it.
    """
    keys: list[tuple[str, object]] = []
    for key, value in item.keys:
        if key == "together" and impersonal(str(value), person) != str(value):
            return None
        if key in _PATHS and isinstance(value, str):
            value = impersonal(value, person)
        elif key in _PATHS | _NARROW and isinstance(value, list):
            wide = list(dict.fromkeys(impersonal(pattern, person) for pattern in value))
            if key in _NARROW and len(Patterns(wide).among(ground.files)) != len(Patterns(value).among(ground.files)):
                return None
            value = wide
        elif key == "keys" and isinstance(value, list):
            value = [".".join(p if impersonal(p, person) == p else "*" for p in k.split(".")) for k in value]
        keys.append((key, value))
    return Observation(item.table, tuple(keys), item.sureness, item.why)


def _files_of(ground: Ground, observation: Observation) -> list[str]:
    patterns = dict(observation.keys)["files"]
    assert isinstance(patterns, list)
    wanted = Patterns(patterns)
    return [path for path in ground.files if wanted.match(path)]


def _sorts(databases: list[str]) -> list[list[str]]:
    """Group databases of one name in folders of one depth."""
    groups: dict[tuple[str, int], list[str]] = defaultdict(list)
    for path in databases:
        groups[path.rpartition("/")[2], path.count("/")].append(path)
    return [sorted(paths) for _, paths in sorted(groups.items())]


def _signs(ground: Ground, sorts: list[list[str]]) -> list[Observation]:
    """Choose what such a library can be known by: its databases, texts that begin in a way of their own, folders."""
    found = []
    for paths in sorts[:2]:
        tables = sorted(table.name for table in tables_of(ground, paths[0]))[:4]
        keys: list[tuple[str, object]] = [("path", pattern_of(paths))]
        if tables:
            keys.append(("tables", tables))
        found.append(Observation("signs", tuple(keys), "sure", "the database and its tables"))
    for path in sorted(p for p in ground.files if "/" not in p and impersonal(p, ground.person) == p):
        line = ground.head(path, 80).split(b"\n")[0].strip()
        if len(found) < 3 and 3 <= len(line) <= 60 and line[:1] in (b"#", b"%", b"[", b"<") and line.isascii():
            keys = [("path", path), ("begins", line.decode())]
            found.append(Observation("signs", tuple(keys), "likely", "how the file begins"))
    for top in ground.tops:
        if len(found) < 3 and not top.startswith(".") and impersonal(top, ground.person) == top:
            found.append(
                Observation("signs", (("path", f"{top}/"),), "guess" if found else "likely", "a folder in it")
            )
    if not any(item.sureness != "guess" for item in found):
        path = min(ground.files, key=lambda p: (impersonal(p, ground.person) != p, p.count("/"), p))
        found.append(Observation("signs", (("path", path),), "likely", "a file in it"))
    return found


def _sidecars(ground: Ground) -> list[Observation]:
    """Find endings of small texts that hardly occur but beside a larger file of the same name."""
    stems: dict[str, dict[str, str]] = defaultdict(dict)
    for path in ground.files:
        last = ending(path)
        stems[path[: len(path) - len(last)]][last] = path
    alone: Counter[str] = Counter()
    beside: Counter[str] = Counter()
    for endings in stems.values():
        largest = max(endings.values(), key=lambda p: ground.files[p].size)
        for last, path in endings.items():
            small = path != largest and ground.files[path].size <= _SIDECAR and b"\0" not in ground.head(path, 512)
            (beside if len(endings) > 1 and small else alone)[last] += 1
    found = []
    for last, count in sorted(beside.items()):
        if last and count > 2 and alone[last] <= count // 10:
            sureness: Sureness = "sure" if last == ".xmp" else "likely"
            why = f"{count} of them lie beside a larger file of the same name"
            found.append(Observation("", (("sidecars", [last]),), sureness, why))
    return found


def _in_use(ground: Ground, sorts: list[list[str]]) -> list[Observation]:
    """Find lock marks: by a name that says so, or by the number of a process that has the library open just now.

    A number alone says nothing: a counter, a year and a page number are numbers as well.
    """
    found = []
    openers = {opener.pid: opener.name for opener in openers_of(ground.folder)}
    for path, file in sorted(ground.files.items()):
        if file.size >= _MARK or path.count("/") > 1:
            continue
        words = re.search(rb"\d{1,10}", ground.head(path, _MARK))
        pid = int(words.group()) if words is not None else 0
        says_so = _LOCK.search(path.rpartition("/")[2]) is not None
        if pid in openers:
            why = f"the number of {shown(openers[pid])} is in it, which has the library open"
            found.append(Observation("in-use", (("lock-marks", [path]),), "sure", why))
        elif says_so and (not file.size or words is not None):
            found.append(Observation("in-use", (("lock-marks", [path]),), "likely", "its name says so"))
    for paths in sorts:
        keys = (("databases", [pattern_of(paths)]),)
        found.append(Observation("in-use", keys, "likely", "a lock of another process on it means that it is open"))
    return found


def _together(ground: Ground, references: list[Observation]) -> list[Observation]:
    """Find an index at the top and the folder that most of what it names lies in."""
    found: list[Observation] = []
    for reference in references:
        files = _files_of(ground, reference)
        if len(files) == 1 and "/" not in files[0] and dict(reference.keys)["from"] in ("sqlite", "bibtex"):
            counts = {top: len(ground.below[top]) for top in ground.tops}
            companion = next((t for t in ground.tops if t.startswith(files[0].rpartition(".")[0])), None)
            top = companion or max(counts, key=lambda t: counts[t], default=None)
            if top is not None and not any(files[0] in str(o.keys) for o in found):
                value = [[files[0], f"{top}/"]]
                found.append(
                    Observation("", (("together", value),), "likely", "the one names what lies in the other")
                )
    return found


def _parts(ground: Ground, references: list[Observation]) -> list[Observation]:
    """Find bundles and playlists, which people take alone."""
    found = []
    for reference in references:
        keys = dict(reference.keys)
        if keys["from"] in ("m3u8", "xspf"):
            part = (("what", "playlist"), ("from", "files"), ("paths", keys["files"]))
            found.append(Observation("parts", part, "sure", "each playlist names its files"))
    endings: dict[tuple[str, str], int] = defaultdict(int)
    for folder in ground.listing.folders:
        above, _, name = folder.path.rpartition("/")
        stem, dot, last = name.rpartition(".")
        if stem and dot and re.fullmatch(r"[a-z]{2,12}", last):
            endings[above, last] += 1
    for (above, last), count in sorted(endings.items()):
        if count > 1:
            pattern = (f"{above}/" if above else "") + f"*.{last}"
            part = (("what", "bundle"), ("from", "folders"), ("paths", [pattern]))
            found.append(Observation("parts", part, "likely", f"{count} folders with the ending .{last}"))
    return found


def _bought(ground: Ground) -> list[Observation]:
    """Hint at what may have been bought; that is for a person to decide."""
    found = []
    for top, inside in sorted(ground.below.items()):
        words = set(re.split(r"[^a-z]+", top.rpartition("/")[2].lower()))
        licence = any(re.match(r"licen[cs]e", path[len(top) + 1 :].lower()) for path in inside)
        if words & {"bought", "purchased", "licensed", "store"} or licence:
            keys = (("must-not-leave", [f"{top}/**"]),)
            found.append(Observation("roles", keys, "guess", "it may have been bought: read its licence"))
    return found


_ORDER = ("in-use", "roles")


def _text(name: str, title: str, place: str, observed: list[Observation]) -> str:
    """Write the kind file. A guess is a remark: nothing follows from it until a person takes the mark away."""
    plain = title if title.isprintable() else name
    lines = [
        f"# A draft, made from one library: {plain}",
        "# Each line says how sure it is: sure, likely, or guess. Guesses are commented out: remove the # to use",
        "# one. Then: dunechest kinds try FILE FOLDER, and dunechest kinds add FILE",
        "format = 1",
        f"name = {json.dumps(name)}",
        f"title = {toml_text(plain.strip('.') or name)}",
        'about = ""',
        'application = ""',
    ]
    for key in ("together", "databases", "sidecars"):
        lines += _single("", key, observed)
    lines += ["", "[places]"]
    for system in ("linux", "macos", "windows"):
        if place:
            here = system == system_name()
            sure = "# likely: where this one lies" if here else "# guess: the same place on another system"
            lines += [sure, f"{'' if here else '# '}{system} = {toml_text([place])}"]
    for table in _ORDER:
        inner = [line for key in _keys_of(table, observed) for line in _single(table, key, observed)]
        if inner:
            lines += ["", f"[{table}]", *inner]
    for table in ("signs", "references", "parts"):
        for item in observed:
            if item.table == table:
                mark = "# " if item.sureness == "guess" else ""
                lines += ["", f"# {item.sureness}: {item.why}", f"{mark}[[{table}]]"]
                lines += [f"{mark}{key} = {toml_text(value)}" for key, value in item.keys]
    return "\n".join(lines) + "\n"


def _keys_of(table: str, observed: list[Observation]) -> list[str]:
    return list(dict.fromkeys(key for item in observed if item.table == table for key, _ in item.keys))


def _single(table: str, key: str, observed: list[Observation]) -> list[str]:
    """Write one key with a list that several observations fill, a line and a remark for each."""
    lines, guesses = [], []
    for item in observed:
        if item.table == table:
            for name, values in item.keys:
                if name == key and isinstance(values, list):
                    remark = f"# {item.sureness}: {item.why}"
                    for value in values:
                        if item.sureness == "guess":
                            guesses += [remark, f"# {key} = {toml_text([value])}"]
                        else:
                            lines += [f"    {toml_text(value)},  {remark}"]
    return [*guesses, *([f"{key} = [", *lines, "]"] if lines else [])]
