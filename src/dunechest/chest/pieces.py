r"""Earlier states of large files, kept as the pieces in which they differ from what came after them.

A catalogue of 200 MB in which a little changes each day would cost 200 MB a day as whole
copies. So when a large file is replaced, its earlier state is cut into pieces, and only those are kept
that its successor does not hold and that no other earlier state in the bag has kept.

**Cutting.** A file is cut by its content, so that what is inserted moves the cuts along with it: a piece ends
after the first three bytes in a row of which the first is 7, the second 13, and the third 20 more than a multiple
of 26, that lie so that the piece has at least 4,096 bytes; at 65,536 bytes it ends in any case, and at the end of
the file. The digest of a piece is its SHA-256, which every computer can tell without anything installed.

**Keeping.** ``dune/earlier/NUMBER/PATH.pieces.zip`` is a ZIP archive. In it, ``about.json`` says `format`, `size`,
`blake3` and `sha512` of the whole, and the `base`: the BLAKE3 digest of the file that came after it. ``list.txt`` has
the digest of each piece in order, a line each. All other entries are kept pieces, each under its digest.

**Putting together.** Go through ``list.txt`` and take each piece from this archive, from any other ``.pieces.zip`` of
the bag, or else from the file that the base leads to: the one in the bag with that digest, or, if that is kept in
pieces too, the one that *its* base leads to, and so on; that file is cut, and the piece with the digest is the one.
"""

from __future__ import annotations

import os
import re
import struct
import zlib
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import ExitStack, contextmanager
from hashlib import sha256
from pathlib import Path
from typing import TYPE_CHECKING, BinaryIO

import msgspec

from dunechest.chest.layout import EARLIER
from dunechest.errors import DuneChestError
from dunechest.names import shown
from dunechest.regex import late
from dunechest.transfer import disk, safe

if TYPE_CHECKING:
    import zipfile

SUFFIX = ".pieces.zip"
#: Bytes: smaller files are kept whole, and larger ones too, whose list of pieces would be too long.
SMALLEST, LARGEST = 8 << 20, 4 << 30
#: A state of which more than this share would have to be kept is kept whole.
_WORTH = 0.5

_LEAST, _MOST = 4096, 65536
_BLOCK = 4 << 20
_CUT = late(
    b"".join(b"[" + b"".join(b"\\x%02x" % value for value in range(rest, 256, 26)) + b"]" for rest in (7, 13, 20)),
    re.DOTALL,
)
_DIGEST = late(r"[0-9a-f]{64}")
_MOST_LIST = 128 << 20


def _damage() -> tuple[type[Exception], ...]:
    """What zipfile raises for an archive that is damaged, depending on which of its bits are wrong."""
    import zipfile

    return zipfile.BadZipFile, zlib.error, EOFError, RuntimeError, ValueError, OverflowError, struct.error


#: A fixed moment, so that the same pieces make the same archive.
_MOMENT = (1980, 1, 1, 0, 0, 0)


class About(msgspec.Struct, frozen=True):
    """``about.json`` of an archive of pieces."""

    format: int
    size: int
    blake3: str
    sha512: str
    base: str


def cut(file: BinaryIO) -> Iterator[bytes]:
    """Cut what an open file holds into pieces; see the module for how.

    >>> import io
    >>> [len(piece) for piece in cut(io.BytesIO(b"x" * 5000 + bytes([7, 13, 20]) + b"y" * 70_000))]
    [5003, 65536, 4464]
    """
    buffer, start = b"", 0
    while True:
        if len(buffer) - start < _MOST and (more := file.read(_BLOCK)):
            buffer, start = buffer[start:] + more, 0
            continue
        if start == len(buffer):
            return
        end = min(start + _MOST, len(buffer))
        found = _CUT.search(buffer, min(start + _LEAST - 3, end), end)
        end = found.end() if found else end
        yield buffer[start:end]
        start = end


class Kept(msgspec.Struct, frozen=True):
    """An archive of pieces in a bag: its path there, what it is about, and the digests of the pieces in it."""

    path: str
    about: About
    pieces: frozenset[str]


#: Says where a path of a bag lies.
At = Callable[[str], Path]


@contextmanager
def _opened(path: Path) -> Iterator[zipfile.ZipFile]:
    """Open an archive, which must be a regular file: a pipe would be waited for, a link may lead anywhere.

    Raises
    ------
    OSError, ValueError
        If it cannot be opened, or is not an intact archive.
    """
    with os.fdopen(safe.open_regular(path), "rb") as file:
        try:
            import zipfile

            archive = zipfile.ZipFile(file)
        except _damage() as error:
            raise ValueError(f"it is damaged: {error}") from error
        with archive:
            yield archive


def kept_in(at: At, paths: Iterable[str]) -> dict[str, Kept]:
    """Return the archives of pieces among some paths of a bag, by the digest of the whole; others are passed over."""
    found: dict[str, Kept] = {}
    for path in paths:
        if not path.endswith(SUFFIX) or not path.startswith(EARLIER + "/"):
            continue
        try:
            with _opened(at(path)) as archive:
                about = msgspec.json.decode(_entry(archive, "about.json", 1 << 16), type=About)
                names = frozenset(name for name in archive.namelist() if _DIGEST.fullmatch(name))
        except (OSError, ValueError, msgspec.MsgspecError):
            continue  # a file of that name, or a damaged one: verification tells
        if about.format == 1:
            found.setdefault(about.blake3, Kept(path, about, names))
    return found


def _entry(archive: zipfile.ZipFile, name: str, most: int) -> bytes:
    """Read one entry, bounded: an archive can promise little and hold a great deal.

    Raises
    ------
    ValueError
        If it is missing, damaged or too large.
    """
    if name not in archive.NameToInfo:
        raise ValueError(f"its entry {name} is missing")
    if archive.getinfo(name).file_size > most:
        raise ValueError("it is far too large")
    try:
        with archive.open(name) as entry:
            content = entry.read(most + 1)
    except _damage() as error:
        raise ValueError(f"its entry {name} is damaged: {error}") from error
    if len(content) > most:
        raise ValueError("it is far too large")
    return content


def list_of(at: At, kept: Kept) -> list[str]:
    """Return the digests of the pieces of a state, in order.

    Raises
    ------
    DuneChestError
        If the list is torn.
    """
    try:
        with _opened(at(kept.path)) as archive:
            lines = _entry(archive, "list.txt", _MOST_LIST).decode("ascii").split()
    except (OSError, ValueError) as error:
        raise DuneChestError(f"{shown(kept.path)} cannot be read: {shown(str(error))}.") from error
    if not all(_DIGEST.fullmatch(line) for line in lines):
        raise DuneChestError(f"{shown(kept.path)} is damaged: a line of its list is not a digest.")
    return lines


def keep(old: Path, about: About, new: Path, target: Path, there: Callable[[str], bool]) -> bool:
    """Write an archive of the pieces of an old file that a new one does not hold.

    Parameters
    ----------
    old, new : Path
        The two files.
    about : About
        About the old one; its base is the new one.
    target : Path
        The archive, which must not exist.
    there : callable
        Whether a piece of some digest is kept already.

    Returns
    -------
    bool
        False if it is not worth it; nothing is left at `target` then.
    """
    size = about.size
    with os.fdopen(safe.open_regular(new), "rb") as file:
        held = {sha256(piece).digest() for piece in cut(file)}
    order: list[str] = []
    written: set[str] = set()
    total = 0
    with os.fdopen(safe.open_regular(old), "rb") as file, _new_archive(target) as archive:
        for piece in cut(file):
            raw = sha256(piece).digest()
            digest = raw.hex()
            order.append(digest)
            if raw in held or digest in written or there(digest):
                continue
            written.add(digest)
            total += len(piece)
            if total > size * _WORTH:
                break
            archive.writestr(_info(digest), piece)
        else:
            archive.writestr(_info("list.txt"), "\n".join(order) + "\n")
            archive.writestr(_info("about.json"), msgspec.json.encode(about))
    if total > size * _WORTH:
        disk.remove(target)
        return False
    return True


def _info(name: str) -> zipfile.ZipInfo:
    import zipfile

    info = zipfile.ZipInfo(name, _MOMENT)
    info.compress_type = zipfile.ZIP_DEFLATED
    return info


@contextmanager
def _new_archive(target: Path) -> Iterator[zipfile.ZipFile]:
    """Make a new archive, every write of which goes the way of all writes on a drive."""
    fd = disk.create(target, os.O_WRONLY | os.O_CREAT | os.O_EXCL | getattr(os, "O_BINARY", 0), 0o644)
    try:
        import zipfile

        with zipfile.ZipFile(_Outgoing(fd), "w", zipfile.ZIP_DEFLATED, compresslevel=6) as archive:  # type: ignore[call-overload]
            yield archive
    finally:
        os.close(fd)


class _Outgoing:
    """A file that can only be written from the beginning to the end."""

    def __init__(self, fd: int) -> None:
        self._fd = fd

    def write(self, data: bytes) -> int:
        """Write all of it."""
        safe.write_all(self._fd, data)
        return len(data)

    def flush(self) -> None:
        """Do nothing: what flushes to the medium comes later, once for all of it."""


def rewrite(at: At, kept: Kept, base: str, more: Mapping[str, Kept], target: Path) -> None:
    """Rewrite an archive of pieces with another base, and with pieces taken over from other archives."""
    with _opened(at(kept.path)) as old, _new_archive(target) as new:
        for name in sorted(kept.pieces):
            new.writestr(_info(name), _entry(old, name, _MOST))
        for path in sorted({other.path for other in more.values()}):
            with _opened(at(path)) as other_archive:
                for digest in sorted(d for d, other in more.items() if other.path == path):
                    new.writestr(_info(digest), _entry(other_archive, digest, _MOST))
        new.writestr(_info("list.txt"), _entry(old, "list.txt", _MOST_LIST))
        new.writestr(_info("about.json"), msgspec.json.encode(msgspec.structs.replace(kept.about, base=base)))


def base_of(kept: Kept, others: Mapping[str, Kept]) -> str:
    """Return the digest of the first file along the bases of a state that is not among `others`."""
    base, seen = kept.about.base, {kept.about.blake3}
    while base in others and base not in seen:
        seen.add(base)
        base = others[base].about.base
    return base


def assemble(
    at: At, kept: Kept, every: Iterable[Kept], plain: Mapping[str, Path], own: Path | None = None
) -> Iterator[bytes]:
    """Put an earlier state together again, piece by piece.

    Parameters
    ----------
    at : callable
        Says where a path of the bag lies.
    kept : Kept
        The state.
    every : iterable of Kept
        All archives of pieces in the bag.
    plain : mapping
        By BLAKE3 digest, where the bag's plain files are.
    own : Path, optional
        Where the state's own archive is, if not in its place yet.

    Raises
    ------
    DuneChestError
        If a piece is missing or damaged.
    """
    known = {other.about.blake3: other for other in every}
    where = {digest: other.path for other in known.values() for digest in other.pieces}
    base = base_of(kept, {digest: other for digest, other in known.items() if digest not in plain})
    archives: dict[str, zipfile.ZipFile] = {}
    opened = ExitStack()
    cuts: dict[str, tuple[int, int]] | None = None
    last: BinaryIO | None = None
    try:
        for digest in list_of((lambda path: own) if own is not None else at, kept):
            path = "" if own is not None and digest in kept.pieces else where.get(digest)
            if path is not None:
                if path not in archives:
                    place = own if not path and own is not None else at(path)
                    archives[path] = opened.enter_context(_opened(place))
                piece = _entry(archives[path], digest, _MOST)
            else:
                if cuts is None:
                    last, cuts = _cuts(plain.get(base))
                if digest not in cuts or last is None:
                    raise DuneChestError(f"A piece of {shown(kept.path)} is missing in the chest.")
                last.seek(cuts[digest][0])
                piece = last.read(cuts[digest][1])
            if sha256(piece).hexdigest() != digest:
                raise DuneChestError(f"A piece of {shown(kept.path)} is damaged in the chest.")
            yield piece
    except (OSError, ValueError) as error:
        raise DuneChestError(f"{shown(kept.path)} cannot be reassembled: {shown(str(error))}.") from error
    finally:
        opened.close()
        if last is not None:
            last.close()


def _cuts(path: Path | None) -> tuple[BinaryIO | None, dict[str, tuple[int, int]]]:
    """Open a plain file and say where which piece is in it."""
    if path is None:
        return None, {}
    file = os.fdopen(safe.open_regular(path), "rb")
    found: dict[str, tuple[int, int]] = {}
    place = 0
    for piece in cut(file):
        found.setdefault(sha256(piece).hexdigest(), (place, len(piece)))
        place += len(piece)
    return file, found
