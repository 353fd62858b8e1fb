"""Playlists: M3U and M3U8 (a path or address a line), PLS (numbered keys) and XSPF (the location of each track, a URI)."""

from __future__ import annotations

import re
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


def read_pls(path: Path, spec: References) -> Iterator[Raw]:
    """Read a PLS playlist: the values of ``File1``, ``File2`` and so on."""
    for number, line in lines_of(path):
        found = re.match(r"\s*File\d+\s*=(.*)", line, re.IGNORECASE)
        if found and found.group(1).strip():
            yield Raw(f"line {number}", found.group(1).strip())


def read_xspf(path: Path, spec: References) -> Iterator[Raw]:
    """Read an XSPF playlist (version 1): ``track/location`` and ``track/image``."""
    track = 0
    for name, element in xml_events(path):
        if name == "track":
            track += 1
        elif name in ("location", "image") and (element.text or "").strip():
            yield Raw(f"track {track + 1}", (element.text or "").strip(), True)
