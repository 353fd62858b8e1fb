r"""Names that come from a disk, made safe to show, to keep and to use.

Inside the program a path is a ``str`` in which bytes that are not UTF-8 are
carried as lone surrogates (PEP 383, ``os.fsdecode``). That form is exact, but it
can neither be printed nor written as UTF-8, and a name may hold line breaks and
terminal escape codes. So there are three doors out:

`shown`
    for a terminal, a page or a message: nothing in it can act.
`to_wire`, `from_wire`
    for JSON records: the name itself where it is UTF-8, base64 of its bytes where not.
`slug`
    for the name of a bag.
"""

from __future__ import annotations

import os
import re
import unicodedata
from collections.abc import Iterable, Iterator

import msgspec

from dunechest.regex import late

#: What no shell reads anything into.
_PLAIN = late(r"[A-Za-z0-9_./-]+")
# Control characters, lone surrogates, and the format characters that reorder or hide text.
_ACTS = late("[\x00-\x1f\x7f-\x9f\u061c\u200b-\u200f\u2028-\u202e\u2060-\u2069\ufeff\ufff9-\ufffb\ud800-\udfff]")
_SURROGATE = late("[\ud800-\udfff]")
_ESCAPES = {"\n": "\\n", "\r": "\\r", "\t": "\\t"}

#: Names that Windows keeps for devices, whatever follows the first dot.
_DEVICES = late(r"^(con|prn|aux|nul|com[0-9¹²³]|lpt[0-9¹²³]|conin\$|conout\$)$", re.IGNORECASE)


class RawName(msgspec.Struct, frozen=True):
    """A name that is not UTF-8, in a JSON record: its bytes, which JSON holds as base64."""

    raw: bytes = msgspec.field(name="bytes")


WireName = str | RawName


#: Folders that stand in for a place on a server, and its address: that is what a person knows it by.
stand_ins: dict[str, str] = {}


def shown(name: str) -> str:
    r"""Return `name` with everything that could act on a terminal or page made visible.

    >>> shown("a\x1b[31m\nb\udcff")
    'a\\x1b[31m\\nb\\xff'
    """

    def visible(found: re.Match[str]) -> str:
        char = found.group()
        if char in _ESCAPES:
            return _ESCAPES[char]
        code = ord(char)
        if 0xDC80 <= code <= 0xDCFF:  # a byte that was not UTF-8
            return f"\\x{code - 0xDC00:02x}"
        return f"\\x{code:02x}" if code < 0x100 else f"\\u{code:04x}"

    for folder, address in stand_ins.items():
        name = name.replace(folder, address)
    return _ACTS.sub(visible, name)


def quoted(name: str) -> str:
    r"""Return a name as a word of a command that can be pasted into a shell, whatever it holds.

    What cannot be shown is written as POSIX shells write it between dollar quotes. The shells of Windows agree on double
    quotes alone, and in one of them dollars and backticks act there: so a backtick goes before, which the other one takes
    for a part of the name, and finds nothing. What would end the quotes is left out.

    >>> quoted("blue"), quoted("blue; rm -rf ~"), quoted("two\nlines\udcff")
    ('blue', "'blue; rm -rf ~'", "$'two\\x0alines\\xff'")
    """
    if os.sep == "\\":
        plain = shown(name)
        if re.fullmatch(r"[\w.:\\/~+=@,-]+", plain):
            return plain
        tame = re.sub("[$`]", r"`\g<0>", re.sub('["\u201c-\u201f]', "?", plain))
        return f'"{tame}"'
    if _PLAIN.fullmatch(name):
        return name
    if _ACTS.search(name) is None:
        import shlex

        return shlex.quote(name)

    def escaped(found: re.Match[str]) -> str:
        code = ord(found.group())
        if 0xDC80 <= code <= 0xDCFF:
            return f"\\x{code - 0xDC00:02x}"
        return f"\\x{code:02x}" if code < 0x80 else f"\\u{code:04x}"

    plain = name.replace("\\", r"\\").replace("'", r"\'")
    return f"$'{_ACTS.sub(escaped, plain)}'"


def meant(name: str, known: Iterable[str]) -> str:
    """Return a question for the name that was probably meant, with a blank before it; empty if none is alike.

    >>> meant("verfy", ["verify", "find"]), meant("zzz", ["verify"])
    (" Did you mean 'verify'?", '')
    """
    import difflib

    names = list(known)
    folded = {other.casefold(): other for other in names}
    close = difflib.get_close_matches(name.casefold(), folded, 1, 0.6)
    return f" Did you mean {shown(folded[close[0]])!r}?" if close else ""


AnyPath = str | os.PathLike[str]


def is_text(name: str) -> bool:
    """Whether `name` can be written as UTF-8, that is, holds no lone surrogate."""
    return name.isascii() or _SURROGATE.search(name) is None


def to_wire(name: str) -> WireName:
    r"""Return the form of `name` that a JSON record can hold.

    >>> to_wire("tern.jpg"), to_wire("t\udcff")
    ('tern.jpg', RawName(raw=b't\xff'))
    """
    return name if is_text(name) else RawName(name.encode("utf-8", "surrogateescape"))


def from_wire(name: WireName) -> str:
    """Return the name that `to_wire` was given."""
    return name if isinstance(name, str) else name.raw.decode("utf-8", "surrogateescape")


_BASE64 = "base64:"


def to_line(path: str) -> str:
    r"""Return a full path as one text that a database or a JSON record holds; `from_line` gives the path back.

    >>> to_line("/a/b"), from_line(to_line("/a/\udcff"))
    ('/a/b', '/a/\udcff')
    """
    if is_text(path):
        return path
    import base64

    return _BASE64 + base64.b64encode(path.encode("utf-8", "surrogateescape")).decode()


def from_line(text: str) -> str:
    """Return the path that `to_line` was given; a text that it never returns stays as it is."""
    if not text.startswith(_BASE64):
        return text
    import base64

    try:
        return base64.b64decode(text.removeprefix(_BASE64), validate=True).decode("utf-8", "surrogateescape")
    except ValueError:
        return text


def slug(text: str) -> str:
    """Return a short, plain name that every filesystem and shell takes as it is.

    >>> slug(".tidewrack"), slug("Dune Survey  Photos"), slug("???")
    ('tidewrack', 'dune-survey-photos', 'library')
    """
    plain = unicodedata.normalize("NFKD", text).encode("ascii", "ignore").decode().lower()
    plain = re.sub(r"[^a-z0-9]+", "-", plain).strip("-")[:60].strip("-")
    if _DEVICES.match(plain):
        plain += "-library"
    return plain or "library"


def parents(path: str) -> Iterator[str]:
    """Yield the folders above a relative path, the nearest first, without the top.

    >>> list(parents("a/b/c.jpg")), list(parents("c.jpg"))
    (['a/b', 'a'], [])
    """
    while path := path.rpartition("/")[0]:
        yield path


def is_slug(text: str) -> bool:
    """Whether `text` may be the name of a bag's folder."""
    return re.fullmatch(r"[a-z0-9][a-z0-9-]{0,79}", text) is not None and not _DEVICES.match(text)


def is_device(name: str) -> bool:
    """Whether Windows would take `name` for a device (``CON``, ``nul.txt`` ...)."""
    return _DEVICES.match(name.split(".", 1)[0].rstrip(" ")) is not None


def why_leads_out(path: str) -> str | None:
    r"""Say why a relative path of a library leads out of it on every system, or None if it does not.

    For the own path of a file, with ``/`` between its pieces, which is yet to be fitted to the names of a drive: what
    a name may hold is asked there. For a path that is used as it is, see `why_unsafe`.

    >>> why_leads_out("a/b.jpg"), why_leads_out("../b"), why_leads_out("/etc/x")
    (None, 'it leads upwards', 'it is an absolute path')
    """
    if not path:
        return "it is empty"
    if "\0" in path:
        return "it holds a NUL"
    if path.startswith("/"):
        return "it is an absolute path"
    pieces = path.split("/")
    if ".." in pieces:
        return "it leads upwards"
    if "" in pieces or "." in pieces:
        return "it has an empty piece"
    return None


def why_unsafe(path: str) -> str | None:
    """Say why a relative path from a drive must not be used as it is, or None if it may be.

    The path is one that a manifest or record on a drive names, with ``/`` between
    its pieces. On Windows a backslash and a colon would steer it elsewhere too.

    >>> why_unsafe("a/b.jpg"), why_unsafe("../b"), why_unsafe("/etc/x")
    (None, 'it leads upwards', 'it is an absolute path')
    """
    why = why_leads_out(path)
    if why is None and os.sep == "\\" and ("\\" in path or ":" in path):
        return "it holds a character that leads elsewhere on this system"
    return why
