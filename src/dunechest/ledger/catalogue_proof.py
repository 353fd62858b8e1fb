"""The digest of the catalogue's file, kept beside it: a bit that flips there would make a search answer wrongly, and say nothing.

The digest is taken away before the catalogue is changed and written when that is done. So where a change was interrupted, or
another process is at one, there is none, and nothing is said of the file.
"""

from __future__ import annotations

import time
from pathlib import Path

from blake3 import blake3

from dunechest import clock
from dunechest.transfer import safe

_NAME = "catalogue.blake3"
#: What was proven in this process: name, time (ns) and size of the file.
_Seen = tuple[str, int, int]
_proven: set[_Seen] = set()


def digest_file(place: Path) -> Path:
    """Return where the digest of a catalogue is kept."""
    return place.with_name(_NAME)


def is_harmed(place: Path) -> bool:
    """Whether a catalogue is not as it was written; what nothing is known of is believed."""
    told = _told(place)
    try:
        info = place.stat()
        if not info.st_size:
            return False  # it was deleted, and is begun again
        seen = (str(place), info.st_mtime_ns, info.st_size)
        if not told or seen in _proven:
            return False
        if _digest(place) == told:
            _proven.add(seen)
            return False
    except OSError:
        return False
    return _told(place) == told  # if not, another process has begun to change it


def begin_change(place: Path) -> None:
    """Take the digest away, since the catalogue is about to be changed."""
    digest_file(place).unlink(missing_ok=True)


def end_change(place: Path) -> None:
    """Write the digest of a catalogue that was changed."""
    safe.write_file(digest_file(place), f"{_digest(place)}\n".encode(), mode=0o600)


def set_aside(place: Path) -> Path:
    """Give a harmed catalogue another name, so that a new one is begun; return that."""
    day = time.strftime("%Y-%m-%d", time.gmtime(clock.now()))
    aside = place.with_name(f"{place.name}.harmed-{day}")
    place.replace(aside)
    digest_file(place).unlink(missing_ok=True)
    return aside


def _told(place: Path) -> str:
    try:
        return safe.read_bounded(digest_file(place), 1 << 10).decode("ascii").strip()
    except (OSError, ValueError):
        return ""


def _digest(place: Path) -> str:
    return blake3(max_threads=blake3.AUTO).update_mmap(place).hexdigest()
