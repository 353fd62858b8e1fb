"""Redshank: recordings and playlists."""

from __future__ import annotations

import unicodedata
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path, PureWindowsPath
from urllib.parse import unquote, urlsplit

from defusedxml.ElementTree import parse

from dunechest.demo.applications.base import Application, Opened, RefusalError
from dunechest.demo.sounds import LIST_HEADER


class Redshank(Application):
    """The player."""

    name = "redshank"
    lock_mark = "redshank.open"

    @property
    def usual_place(self) -> Path:
        """Music/Redshank in the home folder."""
        return self.standard("music") / "Redshank"

    @contextmanager
    def _held(self, library: Path) -> Iterator[Opened]:
        if not (library / "redshank.ini").is_file() or not (library / "sounds").is_dir():
            raise RefusalError(f"There are no recordings in {library}.")
        sounds = sorted((library / "sounds").rglob("*.wav"))
        things, missing, done = [], [], []
        lists = sorted((library / "playlists").glob("*.m3u8")) + sorted((library / "playlists").glob("*.xspf"))
        for playlist in lists:
            for entry in self._entries(playlist):
                if entry.startswith(("http://", "https://")):
                    continue
                if find_sound(playlist.parent, entry, self.home) is None:
                    missing.append(f"{playlist.name}: {entry}")
            things.append(playlist.name)
        remade = 0
        for sound in sounds:
            peak = library / "waveforms" / sound.parent.name / f"{sound.stem}.peak"
            if not peak.exists():
                peak.parent.mkdir(parents=True, exist_ok=True)
                peak.write_bytes(b"made again")
                remade += 1
        if remade:
            done.append(f"{remade} waveforms made again")
        counts = {"recordings": len(sounds), "playlists": len(lists)}
        yield Opened(library, counts, tuple(things), tuple(missing), tuple(done))

    def _entries(self, playlist: Path) -> list[str]:
        if playlist.suffix == ".m3u8":
            text = playlist.read_text(encoding="utf-8")
            if not text.startswith(LIST_HEADER):
                raise RefusalError(f"The playlist {playlist.name} is broken.")
            return [line for line in text.splitlines() if line and not line.startswith("#")]
        locations = parse(playlist).iter("{http://xspf.org/ns/0/}location")
        return [unquote(location.text or "") for location in locations]


def find_sound(folder: Path, entry: str, home: Path) -> Path | None:
    """Find what a playlist names: in its place, under either form of its accents, or on the present desktop."""
    path = folder / entry
    if entry.startswith("file:"):
        plain = urlsplit(entry).path
        path = Path(plain[1:] if PureWindowsPath(plain[1:]).drive else plain)
    if path.is_file():
        return path
    wanted = unicodedata.normalize("NFC", path.name)
    for place in (path.parent, home / "Desktop"):
        if place.is_dir():
            for other in place.iterdir():
                if unicodedata.normalize("NFC", other.name) == wanted:
                    return other
    return None
