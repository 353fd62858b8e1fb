r"""Payload and tag manifests (RFC 8493, sections 2.1.3 and 2.2.1) and ``fetch.txt`` (section 2.2.3).

Grammar, after any byte order mark is passed over::

    manifest = *( line )
    line     = digest 1*( SP / HTAB ) path line-end
    digest   = 1*( HEXDIG )                  ; either case
    path     = 1*( any character but CR, LF ) ; CR, LF and "%" are written %0D, %0A, %25
    line-end = CR / LF / CRLF                ; the last one may be missing

    fetch    = *( url 1*( SP / HTAB ) length 1*( SP / HTAB ) path line-end )
    length   = 1*( DIGIT ) / "-"

Writer and reader are each other's inverse for every path that is text. A line
that cannot be read never stops the reader: it becomes a `Problem`, because the
rest of a damaged manifest is still worth a great deal.
"""

from __future__ import annotations

import re
from collections.abc import Iterator

import msgspec

from dunechest.bag.digests import Digests
from dunechest.names import why_unsafe
from dunechest.paths import BACKSLASHES
from dunechest.regex import late

#: Longest line that is taken for one, in characters; paths are far shorter on every system.
LONGEST_LINE = 1 << 16

_LINE = late(r"([0-9A-Fa-f]+)[ \t]+(.+)\Z", re.DOTALL)
_FETCH = late(r"(\S+)[ \t]+(\d+|-)[ \t]+(.+)\Z", re.DOTALL)
_ENCODED = late(r"%(0[aAdD]|25)")
_ENCODED_BEFORE = late(r"%(0[aAdD])")
_BARE_PERCENT = late(r"%(?!0[aAdD]|25)")
_TAG_MANIFEST = late(r"tagmanifest-[a-z0-9-]+\.txt", re.IGNORECASE)
_TO_ENCODE = late(r"[\r\n%]")


class Problem(msgspec.Struct, frozen=True):
    """A place in a file of the bag that cannot be understood: line number (from 1) and why."""

    file: str
    line: int
    why: str


class FetchEntry(msgspec.Struct, frozen=True):
    """A file that ``fetch.txt`` says lies elsewhere; `length` in bytes or None. Never fetched."""

    url: str
    length: int | None
    path: str


class Manifest(msgspec.Struct):
    """What a manifest says: digests (lower-case hexadecimal) by path, and what could not be read."""

    name: str
    algorithm: str
    entries: Digests
    problems: list[Problem] = msgspec.field(default_factory=list)


def encode_path(path: str) -> str:
    r"""Write a path as a manifest has it (RFC 8493, section 2.1.3).

    >>> encode_path("data/50%\noff")
    'data/50%25%0Aoff'
    """
    return _TO_ENCODE.sub(lambda found: f"%{ord(found.group()):02X}", path)


def decode_path(text: str, *, strict: bool = True) -> str:
    r"""Read a path back; any other percent sign is left as it is. Drafts before version 1.0 did not encode ``%`` itself.

    >>> decode_path("data/50%25%0Aoff")
    'data/50%\noff'
    """
    if "%" not in text:
        return text
    return (_ENCODED if strict else _ENCODED_BEFORE).sub(lambda found: chr(int(found.group(1), 16)), text)


def format_line(digest: str, path: str) -> str:
    """Return one manifest line; two spaces, as the operating systems' checksum commands write it."""
    return f"{digest}  {encode_path(path)}\n"


def split_lines(text: str) -> Iterator[str]:
    """Split at CR, LF and CRLF only; other separators are parts of names."""
    if "\r" in text:
        text = text.replace("\r\n", "\n").replace("\r", "\n")
    lines = text.split("\n")
    if lines and not lines[-1]:
        lines.pop()
    yield from lines


def parse_manifest(
    name: str, algorithm: str, text: str, *, payload: bool, digest_length: int, strict: bool = True
) -> Manifest:
    """Read a manifest.

    Parameters
    ----------
    name : str
        Its file name, for the problems.
    algorithm : str
        Digest algorithm, from the file name.
    text : str
        The decoded contents.
    payload : bool
        Whether its paths must lie in ``data/`` (payload manifest) or must not (tag manifest).
    digest_length : int
        Expected number of hexadecimal digits.
    strict : bool
        Whether the bag is of version 1.0, which lists each path once and encodes ``%``.

    Returns
    -------
    Manifest
        Every line that could be read, and a problem for each that could not. A
        path that would leave the bag is a problem, never an entry.
    """
    manifest = Manifest(name, algorithm, Digests(digest_length))
    if payload and (entries := _plain_entries(text, digest_length)) is not None:
        manifest.entries = entries
        return manifest
    for number, line in enumerate(split_lines(text.removeprefix("\ufeff")), start=1):
        if not line.strip():
            continue
        why = _take(manifest, line, payload, digest_length, strict)
        if why is not None:
            manifest.problems.append(Problem(name, number, why))
    return manifest


# What makes a line need a closer look: encoded characters, odd line ends, pieces that lead elsewhere.
_ODD = late(r"%|\r|\0|\ufeff|/\.{0,2}(?:/|$)", re.MULTILINE)


def _plain_entries(text: str, digest_length: int) -> Digests | None:
    """Read a payload manifest in which nothing is out of the ordinary, quickly; None for any other."""
    if _ODD.search(text) is not None or (BACKSLASHES and ("\\" in text or ":" in text)):
        return None
    line = re.compile(rf"^([0-9a-f]{{{digest_length}}})  (data/.{{1,4000}})$", re.MULTILINE)
    # One by one, since a list of half a million pairs beside the entries costs as much memory as they do.
    entries = Digests(digest_length)
    for found in line.finditer(text):
        entries[found[2]] = found[1]
    whole = text.count("\n") + (not text.endswith("\n"))
    return entries if len(entries) == whole else None


def _take(manifest: Manifest, line: str, payload: bool, digest_length: int, strict: bool) -> str | None:
    """Add one line to the manifest, or say why not."""
    if len(line) > LONGEST_LINE:
        return "the line is too long to be one"
    found = _LINE.match(line)
    if found is None:
        return "it is not a digest followed by a path"
    digest, written = found.groups()
    if len(digest) != digest_length:
        return f"the digest has {len(digest)} digits instead of {digest_length}"
    path = decode_path(written, strict=strict)
    # Some checksum commands mark binary mode with an asterisk (section 6.1.3 of older drafts);
    # a payload path never begins with one.
    if payload and path.startswith("*data/"):
        path = path[1:]
    path = path.removeprefix("./")
    why = why_unsafe(path)
    if why is not None:
        return f"the path is not used: {why}"
    if payload != path.startswith("data/"):
        return "the path is not used: " + (
            "it does not lie in data/" if payload else "a tag file cannot lie in data/"
        )
    if strict and _BARE_PERCENT.search(written):
        manifest.entries.setdefault(path, digest.lower())
        return "a percent sign in the path is not written as %25"
    if not payload and _TAG_MANIFEST.fullmatch(path):
        return "the path is not used: a tag manifest must not list tag manifests"
    digest = digest.lower()
    if path not in manifest.entries:
        manifest.entries[path] = digest
        return None
    if manifest.entries[path] != digest:
        return "the same path is listed here twice, with two digests"
    return "the same path is listed here twice" if strict else None


def parse_fetch(text: str) -> tuple[list[FetchEntry], list[Problem]]:
    """Read ``fetch.txt``; nothing is ever fetched."""
    entries: list[FetchEntry] = []
    problems: list[Problem] = []
    for number, line in enumerate(split_lines(text.removeprefix("\ufeff")), start=1):
        if not line.strip():
            continue
        found = _FETCH.match(line) if len(line) <= LONGEST_LINE else None
        if found is None:
            problems.append(Problem("fetch.txt", number, "it is not an address, a length and a path"))
            continue
        url, length, written = found.groups()
        path = decode_path(written).removeprefix("./")
        why = why_unsafe(path)
        if why is None and not path.startswith("data/"):
            why = "it does not lie in data/"
        if why is not None:
            problems.append(Problem("fetch.txt", number, f"the path is not used: {why}"))
            continue
        amount = int(length) if length != "-" and len(length) < 20 else None
        entries.append(FetchEntry(url, amount, path))
    return entries, problems
