"""The shore recordings: field sound and music, playlists that also name files outside the library."""

from __future__ import annotations

import random
import struct
import unicodedata
from pathlib import Path, PureWindowsPath
from urllib.parse import quote
from xml.sax.saxutils import escape

_PLACES = ("north beach", "gull rock", "harbour", "the house")
_NAMES = ("dawn", "wrack line", "two seals", "wind in the fence", "rain on the roof", "the bell buoy")
#: The files have decomposed accents, as one system writes them, and the playlists composed ones, as another does.
_ACCENTED = ("Dünung", "café après la pluie")

LIST_HEADER = "#EXTM3U"


def make(library: Path, home: Path, rng: random.Random, count: int) -> None:
    """Make so many recordings, their waveforms, covers and playlists; two recordings lie on the desktop."""
    sounds: list[str] = []
    for number in range(count):
        place = _PLACES[number % len(_PLACES)]
        if number < len(_ACCENTED):
            stem = unicodedata.normalize("NFD", _ACCENTED[number])
        else:
            stem = f"{number:03d} {_NAMES[number % len(_NAMES)]}"
        path = library / "sounds" / place / f"{stem}.wav"
        write_sound(path, rng, rng.randint(8_000, 90_000))
        peak = library / "waveforms" / place / f"{stem}.peak"
        peak.parent.mkdir(parents=True, exist_ok=True)
        peak.write_bytes(rng.randbytes(4_000))
        sounds.append(f"sounds/{place}/{stem}.wav")
    desktop = home / "Desktop"
    for name in ("gulls at dusk.wav", "engine test.wav"):
        write_sound(desktop / name, rng, 30_000)
    (library / "covers").mkdir()
    (library / "covers" / "evening.png").write_bytes(_picture(rng))
    lists = library / "playlists"
    lists.mkdir()
    composed = [unicodedata.normalize("NFC", f"../{sound}") for sound in sounds]
    evening = [*composed[: count // 2], "../../../Desktop/gulls at dusk.wav", "http://radio.marram.example/tides"]
    (lists / "Evening.m3u8").write_text(_m3u8(evening), encoding="utf-8")
    morning = [*composed[count // 3 :], "../../../Desktop/gulls at dusk.wav"]
    (lists / "Morning.m3u8").write_text(_m3u8(morning), encoding="utf-8")
    tracks = [*composed[::3], str(desktop / "engine test.wav")]
    (lists / "For the boat.xspf").write_text(_xspf(tracks), encoding="utf-8")
    (library / "redshank.ini").write_text(
        "[library]\nmade-by = Redshank\n\n[covers]\nEvening = covers/evening.png\n", encoding="utf-8"
    )


def write_sound(path: Path, rng: random.Random, samples: int) -> None:
    """Write a mono WAV file of noise: 16 bits, 22,050 a second."""
    path.parent.mkdir(parents=True, exist_ok=True)
    body = rng.randbytes(samples * 2)
    head = b"RIFF" + struct.pack("<I", 36 + len(body)) + b"WAVEfmt "
    head += struct.pack("<IHHIIHH", 16, 1, 1, 22_050, 44_100, 2, 16) + b"data" + struct.pack("<I", len(body))
    path.write_bytes(head + body)


def _picture(rng: random.Random) -> bytes:
    import io

    from PIL import Image

    out = io.BytesIO()
    Image.frombytes("RGB", (96, 96), rng.randbytes(96 * 96 * 3)).save(out, "PNG")
    return out.getvalue()


def _m3u8(entries: list[str]) -> str:
    lines = [LIST_HEADER]
    for entry in entries:
        lines += [f"#EXTINF:-1,{entry.rpartition('/')[2]}", entry]
    return "\n".join(lines) + "\n"


def _xspf(entries: list[str]) -> str:
    tracks = []
    for entry in entries:
        location = quote(entry)
        if PureWindowsPath(entry).drive:
            location = "file:///" + quote(entry.replace("\\", "/"), safe="/:")
        elif entry.startswith("/"):
            location = f"file://{location}"
        tracks.append(f"  <track><location>{escape(location)}</location></track>")
    return (
        '<?xml version="1.0" encoding="UTF-8"?>\n<playlist version="1" xmlns="http://xspf.org/ns/0/">\n'
        " <trackList>\n" + "\n".join(tracks) + "\n </trackList>\n</playlist>\n"
    )
