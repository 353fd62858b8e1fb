"""Where a reference leads: into the library, to an outside file, to nothing, or away from this computer."""

from __future__ import annotations

import os
import re
import stat
import unicodedata
from collections.abc import Iterable
from pathlib import Path
from typing import Literal, NamedTuple
from urllib.parse import unquote, urlsplit

from dunechest.library.formats.base import Raw
from dunechest.machine.identity import system_name
from dunechest.machine.sensitive import is_secret
from dunechest.paths import CASE_BLIND, folded, prefix_of
from dunechest.regex import late

#: ``away`` is outside this computer (a web address); ``folder`` is a folder outside the library.
State = Literal["inside", "outside", "missing", "away", "folder"]

_SCHEME = late(r"[A-Za-z][A-Za-z0-9+.-]+:")
_ADDRESS = late(r"[A-Za-z][A-Za-z0-9+.-]+://|(?:mailto|data|doi|urn|tel|javascript|about):", re.IGNORECASE)
_WINDOWS = late(r"[A-Za-z]:[\\/]|\\\\")
_DRIVES = late(r"/(?:run/)?media/[^/]+/([^/]+)/|/Volumes/([^/]+)/|^/mnt/([^/]+)/|^([A-Za-z]:)[\\/]")
_NOT_TAKEN = ("bin", "boot", "dev", "etc", "lib", "lib32", "lib64", "proc", "run", "sbin", "sys", "usr", "var")

#: Likewise on other systems, without regard to case.
_NOT_TAKEN_ELSEWHERE: dict[str, tuple[str, ...]] = {
    "linux": (),
    "macos": ("private", "system", "library", "cores", "opt"),
    "windows": (
        "windows", "program files", "program files (x86)", "programdata", "system volume information", "$recycle.bin", "recovery",
    ),
}  # fmt: skip

OF_THE_SYSTEM = "it belongs to the system"


class Target(NamedTuple):
    """Where a reference leads.

    `path` is relative to the library if it is inside, else the full path; `moved`
    says that the reference names another place, and the file was known by the end
    of its path; `drive` is the name of the drive it was on, if that can be told.
    """

    state: State
    path: str
    moved: bool = False
    drive: str = ""


def _one_form(path: str) -> str:
    return path if path.isascii() else unicodedata.normalize("NFC", path)


class Resolver:
    """Resolves the references of one library.

    Parameters
    ----------
    library : Path
        The library's folder.
    files, folders : iterable of str
        What a walk found in it.
    home : Path
        What ``~`` stands for.
    former : str
        Where the library was: a full path below it means the file in this one, even if the former is there still.
    """

    def __init__(
        self, library: Path, files: Iterable[str], folders: Iterable[str], home: Path, former: str = ""
    ) -> None:
        self._former = os.path.normcase(os.path.normpath(former)) if former else ""
        self._library = os.path.realpath(library)
        self._below = self._library.rstrip(os.sep) + os.sep
        self._home = str(home)
        self._inside = set(files)
        self._folders = {folder for folder in folders if folder}
        self._forms: dict[str, str] | None = None
        self._by_name: dict[str, list[str]] | None = None
        self._by_lower: dict[str, list[str]] | None = None
        self._real: dict[str, str] = {}

    def resolve(self, raw: Raw, base: str) -> Target | None:
        """Say where a reference leads; None if it is none.

        Parameters
        ----------
        raw : Raw
            As it is written.
        base : str
            What it is relative to: a folder in the library.
        """
        if raw.endings or raw.upwards:
            first = None
            for reading, above in raw.readings(base):
                target = self.resolve(reading, above)
                if target is None or target.state in ("inside", "outside", "away"):
                    return target
                first = first or target
            return self._anywhere(raw, first) if raw.anywhere else first
        text = raw.text
        if not raw.uri:  # most of a hundred thousand are written just as the file is called
            plain = text.removeprefix(self._below) if text.startswith("/") else f"{base}/{text}" if base else text
            if plain in self._inside:
                return Target("inside", plain)
        if not text.strip() or text.startswith("#"):
            return None
        if "\0" in text:
            return Target("missing", text)
        lower = text[:8].lower()
        if lower.startswith("file:"):
            return self._file_uri(text, base)
        if _ADDRESS.match(text) or (raw.uri and _SCHEME.match(text)):
            return Target("away", text)
        if not raw.uri:
            return self._path(text, base)
        if text.startswith("//"):
            return Target("away", text)
        plain = unquote(text, errors="surrogateescape")
        found = self._path(plain, base)
        if found.state == "missing" and re.search(r"[?#]", text):
            return self._path(unquote(re.split(r"[?#]", text)[0], errors="surrogateescape"), base)
        return found

    def _anywhere(self, raw: Raw, missing: Target | None) -> Target | None:
        """Resolve a name that may lie anywhere; a page that is named and not written yet is no reference."""
        wanted = _one_form(raw.text).lower()
        for ending in ("", *raw.endings):
            found = [path for path in self._named(f"{wanted}{ending}") if self._ends(path, wanted + ending)]
            if found:
                return Target("inside", min(found, key=lambda path: (path.count("/"), path)))
        return missing if re.search(r"\.[A-Za-z0-9]{1,5}$", raw.text) else None

    def _named(self, path: str) -> list[str]:
        if self._by_lower is None:
            self._by_lower = {}
            for inner in self._inside:
                self._by_lower.setdefault(_one_form(inner.rpartition("/")[2]).lower(), []).append(inner)
        return self._by_lower.get(path.rpartition("/")[2], [])

    @staticmethod
    def _ends(path: str, wanted: str) -> bool:
        whole = "/" + _one_form(path).lower()
        return whole.endswith("/" + wanted.lstrip("/"))

    def _file_uri(self, text: str, base: str) -> Target:
        """Resolve a ``file:`` URI (RFC 8089)."""
        try:
            parts = urlsplit(text)
        except ValueError:
            return Target("missing", text)
        if parts.netloc not in ("", "localhost"):
            return Target("away", text)
        path = unquote(parts.path, errors="surrogateescape")
        if "\0" in path:
            return Target("missing", text)
        return self._path(path[1:] if re.match(r"/[A-Za-z]:", path) else path, base)

    def _path(self, text: str, base: str) -> Target:
        if not text:
            return Target("missing", text)
        if text.startswith("~/"):
            text = self._home + text[1:]
        if os.sep == "/" and _WINDOWS.match(text):
            return self._elsewhere(text.replace("\\", "/"), text)
        target = self._here(text, base)
        if target.state == "missing" and "\\" in text and os.sep == "/":
            # Written on a system that divides paths in another way.
            again = self._here(text.replace("\\", "/"), base)
            return again if again.state != "missing" else target
        return target

    def _here(self, text: str, base: str) -> Target:
        full = os.path.normpath(os.path.join(self._library, base, text))
        if self._former and (os.path.normcase(full) + os.sep).startswith(prefix_of(self._former)):
            full = self._library + full[len(self._former) :]
        folder, name = os.path.split(full)
        if folder not in self._real:
            self._real[folder] = os.path.realpath(folder)
        full = os.path.join(self._real[folder], name)
        if full == self._library:
            return Target("inside", "")
        if full.startswith(self._below) or (CASE_BLIND and full.casefold().startswith(self._below.casefold())):
            path = full[len(self._below) :].replace(os.sep, "/")
            if path in self._inside or path in self._folders:
                return Target("inside", path)
            other = self._same_form(path)
            if other is not None:
                return Target("inside", other)
            return self._elsewhere(full, path) if os.path.isabs(text) else Target("missing", path)
        return self._outside(full, os.path.isabs(text))

    def _same_form(self, path: str) -> str | None:
        """Find a name that differs only in the form of its accents (Unicode, Annex 15), or in case where that is no matter."""
        if self._forms is None:
            every = (*self._inside, *self._folders)
            self._forms = {_alike(p): p for p in every if CASE_BLIND or not p.isascii()}
        return self._forms.get(_alike(path))

    def _outside(self, full: str, absolute: bool) -> Target:
        for candidate in (full, self._beside(full)):
            if candidate is None:
                continue
            try:
                mode = os.stat(candidate).st_mode
            except (OSError, ValueError):
                continue
            if stat.S_ISREG(mode):
                return Target("outside", os.path.realpath(candidate))
            if stat.S_ISDIR(mode):
                return Target("folder", candidate)
            return Target("missing", full)
        return self._elsewhere(full, full) if absolute else Target("missing", full, drive=drive_of(full))

    def _beside(self, full: str) -> str | None:
        folder, name = os.path.split(full)
        if name.isascii():
            return None
        try:
            for other in os.listdir(folder):
                if other != name and _one_form(other) == _one_form(name):
                    return os.path.join(folder, other)
        except (OSError, ValueError):
            pass
        return None

    def _elsewhere(self, path: str, text: str) -> Target:
        """Resolve a path of another place: the end of it may be known here."""
        if self._by_name is None:
            self._by_name = {}
            for inner in self._inside:
                self._by_name.setdefault(_one_form(inner.rpartition("/")[2]), []).append(inner)
        wanted = _one_form(path.replace(os.sep, "/")).split("/")
        best, length, several = "", 0, False
        for candidate in self._by_name.get(wanted[-1], ()):
            pieces = _one_form(candidate).split("/")
            same = 0
            while same < min(len(pieces), len(wanted)) and pieces[-1 - same] == wanted[-1 - same]:
                same += 1
            if same > length:
                best, length, several = candidate, same, False
            elif same == length:
                several = True
        # A name alone is no proof; a name and its folder are, if only one file has them.
        if length >= 2 and not several:
            return Target("inside", best, moved=True)
        return Target("missing", text, drive=drive_of(path))


def drive_of(path: str) -> str:
    """Return the name of the removable drive a path is on, by the places where systems show drives.

    >>> drive_of("/media/tern/REED CARD/a.mov"), drive_of("/home/tern/a.mov"), drive_of("E:/a.mov")
    ('REED CARD', '', 'E:')
    """
    found = _DRIVES.search(path.replace(os.sep, "/"))
    name = next((group for group in found.groups() if group), "") if found else ""
    if name.endswith(":") and os.sep == "\\" and os.path.isdir(name + os.sep):
        return ""  # that drive is here: the file on it is not
    return name


def _alike(path: str) -> str:
    return folded(path) if CASE_BLIND else _one_form(path)


def not_taken(path: str) -> str:
    """Say why an outside file is not included though it is there; empty if it may be.

    What a file in a library names is not a person's word: files of the system and of
    hidden folders, where keys and passwords are kept, only are included when asked for by path.
    """
    pieces = Path(path).parts
    if len(pieces) > 1 and pieces[1] in _NOT_TAKEN and pieces[1:3] not in (("run", "media"), ("var", "home")):
        return OF_THE_SYSTEM
    folded = [piece.casefold() for piece in pieces]
    if folded[1:2] and folded[1] in _NOT_TAKEN_ELSEWHERE[system_name()]:
        return OF_THE_SYSTEM
    # As a file manager hides them: settings of applications, where some keep what opens other doors.
    own = folded[1:2] == ["users"] and folded[3:4] == ["library"] and system_name() == "macos"
    if own or any(piece.startswith(".") or piece == "appdata" for piece in folded[1:]):
        return "it is in a hidden folder"
    if is_secret(path):
        return "it holds keys or passwords"
    return ""
