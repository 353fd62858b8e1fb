r"""Forms of paths: of Windows, macOS and Linux, plain or as ``file:`` URIs (RFC 8089), whatever system reads them.

Inside, a full path of any system has ``/`` between its pieces; one of Windows begins with a drive letter
(``C:/``) or the name of a computer (``//server/``). What a text was written like is kept, so that its new
path can be written the same way.
"""

from __future__ import annotations

import os
import posixpath
import re
from typing import Literal
from urllib.parse import quote, unquote, urlsplit

import msgspec

from dunechest.regex import late

_DRIVE = late(r"[A-Za-z]:[\\/]")
_SCHEME = late(r"[A-Za-z][A-Za-z0-9+.-]+:")
#: What a URI may hold as it is in a path (RFC 3986, section 3.3), and what the writers of files leave as it is.
_SAFE = "/:@!$&'()*+,;=~-._"

Form = Literal["plain", "uri", "home"]


class Written(msgspec.Struct, frozen=True):
    """A path as it is written in a file.

    Parameters
    ----------
    path : str
        With ``/`` between its pieces; full, or relative to the file's base.
    form : {"plain", "uri", "home"}
        ``uri`` is percent-encoded; ``home`` begins with ``~/``.
    full : bool
        Whether it is a full path.
    backslashes : bool
        Whether it was written with them.
    scheme : str
        ``file://`` or ``file:`` before a full path that is a URI.
    """

    path: str
    form: Form = "plain"
    full: bool = False
    backslashes: bool = False
    scheme: str = ""


def read(text: str, uri: bool) -> Written | None:
    r"""Return the path that a text is, or None if it is none: an address, a remark, nothing.

    >>> read("C:\\Users\\tern\\a.jpg", False)
    Written(path='C:/Users/tern/a.jpg', form='plain', full=True, backslashes=True, scheme='')
    >>> read("file:///home/tern/a%20b.wav", True).path, read("https://marram.example/x", True)
    ('/home/tern/a b.wav', None)
    """
    if not text.strip() or text.startswith("#") or "\0" in text:
        return None
    if text[:5].lower() == "file:":
        try:
            parts = urlsplit(text)
        except ValueError:
            return None
        path = unquote(parts.path, errors="surrogateescape")
        if re.match(r"/[A-Za-z]:", path):
            path = path[1:]
        if parts.netloc not in ("", "localhost"):
            path = f"//{parts.netloc}{path}"
        scheme = "file://" if text[5:7] == "//" else "file:"
        return Written(path, "uri", True, False, scheme) if "\0" not in path else None
    if text.startswith("~/"):
        return Written(text[2:], "home", True)
    if (_DRIVE.match(text) and not (uri and "\\" not in text)) or text.startswith("\\\\"):
        return Written(text.replace("\\", "/"), "plain", True, "\\" in text)
    if uri:
        if _SCHEME.match(text) or text.startswith("//"):
            return None
        plain = unquote(text, errors="surrogateescape")
        if _DRIVE.match(plain):
            return Written(plain.replace("\\", "/"), "uri", True) if "\0" not in plain else None
        return Written(plain, "uri", plain.startswith("/")) if "\0" not in plain else None
    if re.match(r"[A-Za-z][A-Za-z0-9+.-]+://", text):
        return None
    if text.startswith("/"):
        return Written(text, "plain", True)
    return Written(text.replace("\\", "/"), "plain", False, "\\" in text)


def write(path: str, like: Written, *, home: str = "") -> str:
    """Write a path of this computer as another one was written; `home` is what ``~`` stands for here."""
    if like.form == "home" and home and path.startswith(home.rstrip(os.sep) + os.sep):
        return "~/" + path[len(home.rstrip(os.sep)) + 1 :].replace(os.sep, "/")
    if like.form == "uri":
        plain = path.replace(os.sep, "/")
        encoded = quote(plain.encode("utf-8", "surrogateescape"), safe=_SAFE)
        if not like.full or not like.scheme:
            return encoded
        if plain.startswith("//"):
            return f"file:{encoded}"
        return f"{like.scheme}{encoded if encoded.startswith('/') else '/' + encoded}"
    # What was written on Windows with slashes is in a format in which a backslash means something else.
    return path.replace(os.sep, "/") if _DRIVE.match(like.path) and not like.backslashes else path


def normal(path: str) -> str:
    """Return a full path without ``.``, ``..`` and doubled slashes, in the form that comparisons use."""
    path = path.replace("\\", "/") if _DRIVE.match(path) or path.startswith("\\\\") else path
    lead = "//" if path.startswith("//") else ""
    made = posixpath.normpath(path)
    return lead + made.lstrip("/") if lead else made


def below(path: str, folder: str, *, cases: bool = True) -> str | None:
    """Return the rest of a path below a folder (``""`` for the folder itself), or None; `cases` tells A from a.

    >>> below("/home/tern/Pictures/a.jpg", "/home/tern"), below("/home/ternery", "/home/tern")
    ('Pictures/a.jpg', None)
    """
    if not folder:
        return None
    folded, other = (path, folder) if cases else (path.casefold(), folder.casefold())
    if folded == other:
        return ""
    other = other.rstrip("/") + "/"
    if folded.startswith(other):
        return path[len(folder.rstrip("/")) + 1 :]
    return None


def as_relative(like: Written) -> Written:
    """Return the same form for a relative path."""
    return msgspec.structs.replace(like, full=False, scheme="")
