"""References in any folder: which of its files are in an open format that names other files, by their content.

A kind says where its references are. What it does not speak of, and all of a plain folder, is looked at here: a file's
ending proposes a format, or, where it has none that is known, its first bytes do; then its content must hold something of
the sort. So a playlist of which nobody ever wrote a kind file brings its songs along, and is updated after a restore.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from pathlib import Path

import msgspec

from dunechest.library.endings import BINARY, SOURCE, ending
from dunechest.library.formats.base import UnreadableError
from dunechest.library.formats.sqlite import COMPANIONS
from dunechest.library.formats.tables import path_columns
from dunechest.library.kinds.schema import Form, FoundReferences, Kind, References
from dunechest.library.roles import role_of
from dunechest.paths import prefix_of
from dunechest.regex import late
from dunechest.transfer.beginnings import beginnings, in_groups
from dunechest.transfer.walk import FileEntry

#: Bytes of a file's beginning by which its format is known.
_HEAD = 512
#: So many files of no known ending are opened for their first bytes; of the larger ones only the head is read.
_MOST_HEADS = 20_000
#: After so many files of one such ending, of which none was of an open format, the others are believed to be none either.
_MOST_MISSES = 2_000
#: So many files of formats that seldom hold a path are read: settings, data, pages of a site.
_MOST_UNSURE = 20_000
#: Bytes: a text of such a format that is larger holds data.
_LARGEST_UNSURE = 2 << 20
_LARGEST = 32 << 20
#: A text of so many bytes is read at once.
_SHORT = 64 << 10


class OpenFormat(msgspec.Struct, frozen=True):
    """An open format whose files name others.

    Attributes
    ----------
    form : str
        How references are written in it.
    endings : tuple of str
        The usual endings of its files.
    sure : bool
        Whether whatever stands there is a reference.
    holds : re.Pattern
        What a file's bytes must hold to be worth reading; most texts hold none, and a look is quick.
    begins : re.Pattern or None
        By what first bytes a file of it is known.
    """

    form: Form
    endings: tuple[str, ...]
    sure: bool
    holds: re.Pattern[bytes]
    begins: re.Pattern[bytes] | None = None
    keys: tuple[str, ...] = ()


def _bytes(pattern: bytes) -> re.Pattern[bytes]:
    return re.compile(pattern, re.IGNORECASE | re.MULTILINE)


_ANY = _bytes(rb"\S")
#: A link of Markdown that is no web address: inline, by a label, in angle brackets, or of HTML.
_LOCAL_LINK = _bytes(
    rb"\]\(\s*<?(?!https?:|mailto:|#)[^\s)]|^ {0,3}\[[^\]\n]+\]:|\[\[[^\]\n]|\s(?:src|href)\s*=|<file:"
)
#: Something that can be the path of a file: in quotation marks or after a sign of equality. In some formats a backslash is two.
_PATH = _bytes(rb"[\w.~-](?:[/\\]|\\\\)[\w.~-]|file:/|[\"'=]\s*/\w|[A-Z]:\\")
_LATEX = _bytes(rb"(?s).{0,400}\\documentclass")
_HTML = _bytes(rb"\s*<(?:!doctype html|html)")
_CSL = _bytes(rb"(?s)\A\s*\[\s*\{.{0,4000}\"(?:issued|container-title|DOI)\"\s*:")
_INCLUDE = _bytes(rb"^\s*\W?(?:include|import|source)\w*\s")

FORMATS: tuple[OpenFormat, ...] = (
    OpenFormat("m3u8", (".m3u", ".m3u8"), True, _ANY, _bytes(rb"(?:\xef\xbb\xbf)?#EXTM3U\b")),
    OpenFormat("pls", (".pls",), True, _bytes(rb"^\s*file\d+\s*="), _bytes(rb"\s*\[playlist\]")),
    OpenFormat("xspf", (".xspf",), True, _bytes(rb"<location|<image"), _bytes(rb"(?s).{0,400}<playlist\b[^>]*xspf")),
    OpenFormat("bibtex", (".bib",), True, _bytes(rb"@\s*\w+\s*[{(]"), _bytes(rb"\s*@(?:article|book|misc|online)\s*\{")),
    OpenFormat("ris", (".ris",), True, _bytes(rb"^[A-Z][A-Z0-9]  ?-"), _bytes(rb"\s*TY  - ")),
    OpenFormat("xmp", (".xmp",), True, _bytes(rb"filePath|reference|SidecarForFile"), _bytes(rb"(?s).{0,99}<x:xmpmeta")),
    OpenFormat("markdown", (".md", ".markdown", ".mdown", ".mkd"), True, _LOCAL_LINK),
    OpenFormat("svg", (".svg",), True, _bytes(rb"href|url\(|@import"), _bytes(rb"(?s).{0,400}<svg\b")),
    OpenFormat("latex", (".tex", ".ltx"), True, _bytes(rb"\\(?:in|bib|add|sub|lst|verb)"), _LATEX),
    OpenFormat("html", (".html", ".htm", ".xhtml"), False, _bytes(rb"href|src|poster|data"), _HTML),
    OpenFormat("css", (".css",), False, _bytes(rb"url\(|@import")),
    OpenFormat("ipynb", (".ipynb",), False, _bytes(rb'"cells"')),
    OpenFormat("includes", (".journal", ".ledger", ".inc", ".conf", ".txt"), False, _INCLUDE),
    OpenFormat("ini", (".ini", ".cfg", ".conf", ".desktop"), False, _PATH, keys=("**",)),
    OpenFormat("toml", (".toml",), False, _PATH, keys=("**",)),
    OpenFormat("csl-json", (".json",), True, _CSL),
    OpenFormat("json", (".json",), False, _PATH, keys=("**",)),
)  # fmt: skip

#: What the programs of version control keep of the places of worktrees, submodules and borrowed objects.
_PLACES = late(r"(?:.*/)?\.git(?:/worktrees/[^/]+/gitdir|/(?:modules/.+/)?(?:objects/info/alternates|config))?")

_BY_ENDING: Mapping[str, tuple[OpenFormat, ...]] = {
    ending: tuple(known for known in FORMATS if ending in known.endings)
    for known in FORMATS
    for ending in known.endings
}
_DATABASE = b"SQLite format 3\0"
_DATABASE_ENDINGS = frozenset({".db", ".sqlite", ".sqlite3", ".db3"})
#: Files that are what their ending says, and name no others in an open format: not opened.
_OTHER_ENDINGS = BINARY | SOURCE
#: What lies below these was made by a program, in thousands of files that are read by none but it.
_INNER = late(r"(?:^|/)(?:\.git|\.hg|\.svn|node_modules|__pycache__|site-packages)/")


def candidates(kind: Kind, files: Iterable[FileEntry]) -> list[FileEntry]:
    """Return the files that may hold references of which the kind does not speak, by path: what must be at hand to be read."""
    own = [
        file
        for file in files
        if file.size
        and not file.placeholder
        and ending(file.path) not in _OTHER_ENDINGS
        and not file.path.endswith(COMPANIONS)
    ]
    paths = [file.path for file in own]
    passed_over = {path for spec in kind.references for path in spec.among(paths)}
    passed_over.update(path for path in kind.not_essential.among(paths) if role_of(kind, path) != "essential")
    made: dict[str, bool] = {}  # by folder: whether a program made what is in it
    found = []
    for file in own:
        path = file.path
        if path in passed_over:
            continue
        folder = path[: path.rfind("/") + 1]
        if (inner := made.get(folder)) is None:
            inner = made[folder] = _INNER.search(folder) is not None
        if not inner or _is_place(path):
            found.append(file)
    return sorted(found, key=lambda file: file.path)


def _is_place(path: str) -> bool:
    return ".git" in path and _PLACES.fullmatch(path) is not None


def with_open_formats(kind: Kind, library: Path, files: Iterable[FileEntry]) -> Kind:
    """Return a kind with the references that are found in files of open formats beside its own.

    Parameters
    ----------
    kind : Kind
        The library's kind; it goes before: of what it speaks of nothing is looked at.
    library : Path
        The library's folder.
    files : iterable of FileEntry
        What lies in it. Placeholders are not opened.
    """
    found: dict[tuple[Form, bool, tuple[str, ...]], list[str]] = {}
    tables: list[References] = []
    looked_at = _LookedAt()
    root = prefix_of(library)
    for group in in_groups(_to_ask(candidates(kind, files), looked_at)):
        at_hand = _at_hand(group, root, looked_at)
        for file in group:
            if _is_place(file.path):
                if file.size < 1 << 20:
                    settings = file.path.endswith("config")
                    key: tuple[Form, bool, tuple[str, ...]] = (
                        ("ini", False, ("**",)) if settings else ("lines", True, ())
                    )
                    found.setdefault(key, []).append(file.path)
                continue
            formats = _BY_ENDING.get(ending(file.path), ())
            begins = at_hand.get(file.path, b"")
            if not formats:
                if not looked_at.takes_head(ending(file.path)):
                    continue
                if begins.startswith(_DATABASE):
                    tables += _columns(library / file.path, file.path)
                    continue
                formats = tuple(known for known in FORMATS if known.begins is not None and known.begins.match(begins))
                looked_at.misses[ending(file.path)] += not formats
            fitting = _format_of(file, formats, begins, root, looked_at)
            if fitting is not None:
                found.setdefault((fitting.form, fitting.sure, fitting.keys), []).append(file.path)
    more = [
        FoundReferences(form=form, files=tuple(paths), keys=keys, sure=sure)
        for (form, sure, keys), paths in sorted(found.items())
    ]
    return msgspec.structs.replace(kind, references=(*kind.references, *more, *tables))


def _to_ask(files: Iterable[FileEntry], looked_at: _LookedAt) -> Iterator[FileEntry]:
    """Leave out the files of no known ending of which enough were looked at, before anything else is done with them."""
    for file in files:
        last = ending(file.path)
        if last in _BY_ENDING or looked_at.may_take_head(last) or _is_place(file.path):
            yield file


class _LookedAt(msgspec.Struct):
    """How many files were looked at, so that a folder of any size is looked at quickly."""

    heads: int = 0
    unsure: int = 0
    misses: Counter[str] = msgspec.field(default_factory=Counter)

    def may_take_head(self, last: str) -> bool:
        """Whether a file of an ending that is not known is opened for its first bytes."""
        if last in _DATABASE_ENDINGS:
            return True
        return self.heads < _MOST_HEADS and not (last and self.misses[last] >= _MOST_MISSES)

    def takes_head(self, last: str) -> bool:
        """Likewise, and count it."""
        may = self.may_take_head(last)
        self.heads += may and last not in _DATABASE_ENDINGS
        return may


def _at_hand(group: Sequence[FileEntry], root: str, looked_at: _LookedAt) -> dict[str, bytes]:
    """Return what is needed of some files, read together: the first bytes, and all of a short text, by path."""
    wanted = []
    for file in group:
        formats = _BY_ENDING.get(ending(file.path), ())
        if _is_place(file.path) or not (formats or looked_at.may_take_head(ending(file.path))):
            continue
        if not formats:
            wanted.append((file.path, _HEAD))
        elif file.size <= _SHORT and (looked_at.unsure < _MOST_UNSURE or any(known.sure for known in formats)):
            wanted.append((file.path, file.size + 1))
    contents = beginnings([(root + path, most) for path, most in wanted])
    return {path: content for (path, _), content in zip(wanted, contents, strict=True)}


def _format_of(
    file: FileEntry, formats: Iterable[OpenFormat], begins: bytes, root: str, looked_at: _LookedAt
) -> OpenFormat | None:
    """Return the format of which a file holds something; `begins` are its first bytes, as far as they are at hand."""
    if file.size > _LARGEST:
        return None
    content = begins if len(begins) == file.size else None
    for known in formats:
        if not known.sure:
            looked_at.unsure += 1
            if file.size > _LARGEST_UNSURE or looked_at.unsure > _MOST_UNSURE:
                continue
        if content is None:
            (content,) = beginnings([(root + file.path, min(file.size + 1, _LARGEST))])
        if b"\0" in content[:4096] and not content.startswith((b"\xff\xfe", b"\xfe\xff")):
            return None  # no text, whatever its ending says
        if known.holds.search(content) or content.startswith((b"\xff\xfe", b"\xfe\xff")):
            return known
    return None


def _columns(place: Path, path: str) -> Iterator[FoundReferences]:
    """Yield the columns of a database that hold paths."""
    try:
        for table, column in path_columns(place):
            yield FoundReferences(form="sqlite", files=(path,), table=table, column=column, sure=False)
    except UnreadableError:
        return  # it is in use, damaged or somebody's own; the archive itself tells


def renamed(kind: Kind, names: Mapping[str, str]) -> Kind:
    """Return a kind for a library in which files have other names: those of found references are exact paths."""
    if not names:
        return kind
    return msgspec.structs.replace(
        kind,
        references=tuple(
            msgspec.structs.replace(spec, files=tuple(names.get(path, path) for path in spec.files))
            if isinstance(spec, FoundReferences)
            else spec
            for spec in kind.references
        ),
    )
