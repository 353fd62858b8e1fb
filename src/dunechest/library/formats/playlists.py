"""Playlists: M3U8 (a path or address a line) and XSPF (the location of each track, a URI)."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

from dunechest.library.formats.base import Raw, lines_of
from dunechest.library.formats.markup import xml_events
from dunechest.library.kinds.schema import References


def read_m3u8(path: Path, spec: References) -> Iterator[Raw]:
    """Read an M3U8 playlist: UTF-8, lines that begin with ``#`` are remarks."""
    for number, line in lines_of(path):
        text = line.strip()
        if text and not text.startswith("#"):
            yield Raw(f"line {number}", text)


def read_xspf(path: Path, spec: References) -> Iterator[Raw]:
    """Read an XSPF playlist (version 1): ``track/location`` and ``track/image``."""
    track = 0
    for name, element in xml_events(path):
        if name == "track":
            track += 1
        elif name in ("location", "image") and (element.text or "").strip():
            yield Raw(f"track {track + 1}", (element.text or "").strip(), True)
