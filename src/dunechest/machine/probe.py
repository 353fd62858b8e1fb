"""A harmless probe: what a drive can really hold, tried with a few empty files in a folder of their own.

The system tells the type of a filesystem, but how it was mounted decides what it
takes. The probe's folder is removed at once; nothing else is touched.
"""

from __future__ import annotations

import os
import secrets
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

import msgspec
from msgspec.structs import replace

from dunechest.machine.drives import Limits
from dunechest.paths import BACKSLASHES, is_link
from dunechest.transfer import medium, safe

_NAME = ".dune-probe-"
#: Seconds after which a probe's folder that was left behind is one of a killed process.
_OLD = 3600
_SPEED_BYTES = 8 << 20
#: On Windows these are no part of a name, but lead to another drive, another folder, or into another stream of a file.
_LEADS_ELSEWHERE = frozenset(":\\" if BACKSLASHES else "")


class Probed(msgspec.Struct, frozen=True):
    """What a drive can store, as tested.

    Parameters
    ----------
    forbidden : frozenset of str
        Characters it refused in a name.
    longest : int
        Longest name of plain letters it took, up to 255.
    tells_case, tells_accents : bool
        Whether names that differ only so are two names.
    any_bytes : bool
        Whether a name that is not UTF-8 is taken.
    links : bool
        Whether it holds symbolic links.
    time_step_ns : int
        Resolution of its file times in nanoseconds.
    holes : bool
        Whether what was never written of a file takes no room.
    """

    forbidden: frozenset[str]
    longest: int
    tells_case: bool
    tells_accents: bool
    any_bytes: bool
    links: bool
    time_step_ns: int
    holes: bool = False


@contextmanager
def _own_folder(folder: Path) -> Iterator[Path]:
    import shutil

    for old in folder.glob(_NAME + "*"):
        try:
            if not is_link(old) and time.time() - old.stat().st_mtime > _OLD:
                shutil.rmtree(old, ignore_errors=True)
        except OSError:
            continue
    before = folder.stat()
    place = folder / (_NAME + secrets.token_hex(4))
    place.mkdir()
    try:
        yield place
    finally:
        shutil.rmtree(place, ignore_errors=True)
        try:
            os.utime(folder, ns=(before.st_atime_ns, before.st_mtime_ns))  # no trace, not even in the time
        except OSError:
            pass


#: Whoever simulates other drives sets a function here: it gets what was found, and returns what is believed.
pretend: Callable[[Probed], Probed] | None = None


def probe(folder: Path) -> Probed:
    """Try what the drive under a folder can hold.

    Raises
    ------
    OSError
        If nothing can be written there.
    """
    with _own_folder(folder) as place:
        (place / "plain").touch()
        refused = {char for char in '"*:<>?\\|\x01' if char in _LEADS_ELSEWHERE or not _takes(place, f"x{char}x")}
        longest = next((n for n in (255, 143, 127) if _takes(place, "n" * n)), 63)
        found = Probed(
            frozenset(refused),
            longest,
            not _same(place, "case-a", "CASE-A"),
            not _same(place, "caf\u00e9", "cafe\u0301"),
            not BACKSLASHES and _takes(place, os.fsdecode(b"bytes\xff")),
            _links(place),
            _time_step(place),
            _holes(place),
        )
    return pretend(found) if pretend is not None else found


def _takes(place: Path, name: str) -> bool:
    try:
        os.close(os.open(place / name, os.O_CREAT | os.O_EXCL | os.O_WRONLY, 0o600))
        # Some take a name and keep another one.
        return name in os.listdir(place)
    except (OSError, ValueError):
        return False


def _same(place: Path, first: str, second: str) -> bool:
    if not _takes(place, first):
        return True
    return not _takes(place, second)


def _links(place: Path) -> bool:
    try:
        os.symlink("plain", place / "link")
        return os.readlink(place / "link") == "plain"
    except (OSError, NotImplementedError):
        return False


def _holes(place: Path) -> bool:
    """Make a file of a megabyte without writing a byte, and see whether it takes room."""
    try:
        fd = os.open(place / "hole", os.O_CREAT | os.O_EXCL | os.O_WRONLY, 0o600)
        try:
            os.ftruncate(fd, 1 << 20)
            return getattr(os.fstat(fd), "st_blocks", 2048) * 512 < 1 << 20
        finally:
            os.close(fd)
    except OSError:
        return False


def _time_step(place: Path) -> int:
    """Set a time with digits down to the nanosecond, and see how many come back."""
    wanted = 1_700_000_001_123_456_789
    os.utime(place / "plain", ns=(wanted, wanted))
    got = (place / "plain").stat().st_mtime_ns
    for step in (1, 100, 1_000, 1_000_000, 10_000_000, 1_000_000_000):
        if abs(wanted - got) < step:
            return step
    return 2_000_000_000


def write_speed(folder: Path) -> float:
    """Write and flush a few megabytes in a folder of their own; return bytes a second.

    Raises
    ------
    OSError
        If they cannot be written.
    """
    block = os.urandom(1 << 20)
    with _own_folder(folder) as place:
        fd = os.open(place / "speed", os.O_CREAT | os.O_EXCL | os.O_WRONLY, 0o600)
        try:
            begun = time.monotonic()
            for _ in range(_SPEED_BYTES >> 20):
                safe.write_all(fd, block)
            medium.flush_file(fd)
            return _SPEED_BYTES / max(time.monotonic() - begun, 1e-6)
        finally:
            os.close(fd)


def stricter(limits: Limits, probed: Probed) -> Limits:
    """Return what holds by the type of the filesystem and by the probe.

    The type counts too: a name that is taken here may be refused on the next computer.
    """
    return replace(
        limits,
        forbidden=limits.forbidden | probed.forbidden,
        longest=min(limits.longest, probed.longest),
        tells_case=limits.tells_case and probed.tells_case,
        tells_accents=limits.tells_accents and probed.tells_accents,
    )
