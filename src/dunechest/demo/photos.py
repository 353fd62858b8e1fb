"""The dune survey photos: pictures, sidecars, previews, and the catalogue of Glasswort."""

from __future__ import annotations

import os
import random
import sqlite3
import sys
from contextlib import closing
from pathlib import Path
from typing import Any

_PLACES = ("north ridge", "slack pond", "old fence", "tern colony", "headland", "wrack line")
_CAPTIONS = (
    "after the storm",
    "first shoots",
    "ringed plover on eggs",
    "blowout, looking east",
    "marram line moved",
    "low water",
)
# Composed and decomposed accents are different names to a disk and look alike to a person.
_ACCENTED = ("d\u00fcne fr\u00fch", "du\u0308ne spa\u0308t")

_SIDECAR = """<?xml version="1.0" encoding="UTF-8"?>
<rdf:RDF xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#">
 <rdf:Description rdf:about="" xmlns:dc="http://purl.org/dc/elements/1.1/">
  <dc:description><rdf:Alt><rdf:li xml:lang="x-default">{caption}</rdf:li></rdf:Alt></dc:description>
  <dc:subject><rdf:Bag><rdf:li>{stars} stars</rdf:li></rdf:Bag></dc:subject>{source}
 </rdf:Description>
</rdf:RDF>
"""

_DERIVED = """
  <ms:DerivedFrom xmlns:ms="http://marram.example/media#" xmlns:ref="http://marram.example/ref#"
    ref:filePath="{path}"/>"""

SCHEMA = """
CREATE TABLE folder (id INTEGER PRIMARY KEY, path TEXT NOT NULL UNIQUE);
CREATE TABLE picture (id INTEGER PRIMARY KEY, folder INTEGER NOT NULL REFERENCES folder, name TEXT NOT NULL,
                      caption TEXT NOT NULL, rating INTEGER NOT NULL);
CREATE TABLE album (id INTEGER PRIMARY KEY, title TEXT NOT NULL);
CREATE TABLE album_picture (album INTEGER NOT NULL REFERENCES album, picture INTEGER NOT NULL REFERENCES picture);
CREATE TABLE remark (key TEXT PRIMARY KEY, value TEXT NOT NULL);
"""


def make(
    library: Path, home: Path, rng: random.Random, count: int, year: int, *, loose: int, placeholders: int
) -> None:
    """Make a photo library of so many pictures, taken from a year on.

    Parameters
    ----------
    library, home : Path
        The library, and the home folder of whoever keeps it.
    rng : random.Random
        The seed's.
    count, year : int
        Pictures, and the year of the first.
    loose : int
        Pictures that lie on the desktop and are only referred to.
    placeholders : int
        Pictures of which only the name is here.
    """
    originals = library / "originals"
    rows: list[tuple[Path, str, str, int]] = []
    for number in range(count):
        place = _PLACES[number % len(_PLACES)]
        folder = originals / str(year + number * 5 // max(count, 1)) / place
        folder.mkdir(parents=True, exist_ok=True)
        stem = _ACCENTED[number] if number < len(_ACCENTED) else f"marram-{number:05d}"
        name = f"{stem}.jpg"
        caption, rating = rng.choice(_CAPTIONS), rng.randint(0, 5)
        picture = _paint(rng)
        picture.save(folder / name, "JPEG", quality=90)
        source = ""
        if number % 5 == 4:  # worked over from another picture
            source = _DERIVED.format(path=os.path.relpath(rows[-1][0] / rows[-1][1], folder))
        sidecar = _SIDECAR.format(stars=rating, caption=caption, source=source)
        (folder / f"{stem}.xmp").write_text(sidecar, encoding="utf-8")
        _preview(library, number, picture)
        rows.append((folder, name, caption, rating))
    for folder, name, _, _ in rows[count - placeholders :]:
        whole = (folder / name).stat().st_size
        (folder / name).unlink()
        _leave_name(folder / name, whole)
    for number in range(loose):
        folder = home / "Desktop" / "for the wall"
        folder.mkdir(parents=True, exist_ok=True)
        picture = _paint(rng)
        picture.save(folder / f"wall {number + 1}.jpg", "JPEG", quality=90)
        _preview(library, count + number, picture)
        rows.append((folder, f"wall {number + 1}.jpg", "for the wall", 5))
    _catalogue(library / "catalogue.glw", home, rows, rng)


def _leave_name(path: Path, whole: int) -> None:
    """Leave a name without its bytes, as a service does that keeps these elsewhere, with the mark that says so."""
    with path.open("wb") as file:
        file.truncate(whole)
    if sys.platform == "linux":
        try:
            os.setxattr(path, "user.DOSATTRIB", b"0x1020")
        except OSError:
            path.write_bytes(os.urandom(whole))  # where there are no such marks, there are no placeholders


def _preview(library: Path, number: int, picture: Any) -> None:
    preview = library / "previews" / f"{number % 16:x}" / f"{number:05d}.jpg"
    preview.parent.mkdir(parents=True, exist_ok=True)
    picture.resize((480, 320)).save(preview, "JPEG", quality=85)


def _paint(rng: random.Random) -> Any:
    """Paint a dune under a sky, with enough grain in it that it is as large as a photograph."""
    from PIL import Image, ImageChops, ImageDraw

    width, height = 1200, 800
    sky = Image.frombytes("RGB", (4, 3), bytes(rng.randrange(120, 240) for _ in range(36)))
    picture = sky.resize((width, height), Image.Resampling.BICUBIC)
    draw = ImageDraw.Draw(picture)
    for layer in range(3):
        base = height * (5 + layer) // 8
        ridge = [(x * width // 12, base + rng.randint(-60, 60)) for x in range(13)]
        tone = (200 - 30 * layer, 180 - 30 * layer, 130 - 25 * layer)
        draw.polygon([*ridge, (width, height), (0, height)], fill=tone)
    for _ in range(rng.randint(0, 6)):
        x, y = rng.randint(50, width - 50), rng.randint(30, height // 2)
        draw.arc((x - 22, y, x, y + 14), 200, 340, fill=(40, 40, 50), width=3)
        draw.arc((x, y, x + 22, y + 14), 200, 340, fill=(40, 40, 50), width=3)
    grain = Image.frombytes("L", (width // 2, height // 2), rng.randbytes(width * height // 4))
    grain = grain.resize((width, height)).point([value // 6 for value in range(256)])
    return ImageChops.subtract(picture, Image.merge("RGB", (grain, grain, grain)))


def _catalogue(path: Path, home: Path, rows: list[tuple[Path, str, str, int]], rng: random.Random) -> None:
    with closing(sqlite3.connect(path)) as database:
        database.executescript(SCHEMA)
        database.execute("INSERT INTO remark VALUES ('home', ?)", (str(home),))
        folders: dict[Path, int] = {}
        for number, (folder, name, caption, rating) in enumerate(rows, start=1):
            if folder not in folders:
                folders[folder] = len(folders) + 1
                database.execute("INSERT INTO folder VALUES (?, ?)", (folders[folder], str(folder)))
            database.execute(
                "INSERT INTO picture VALUES (?, ?, ?, ?, ?)", (number, folders[folder], name, caption, rating)
            )
        for number, title in enumerate(("Terns", "Before and after", "For the wall"), start=1):
            database.execute("INSERT INTO album VALUES (?, ?)", (number, title))
            loose = [n for n, row in enumerate(rows, start=1) if row[2] == "for the wall"]
            chosen = {
                *(loose if title == "For the wall" else ()),
                *rng.sample(range(1, len(rows) + 1), max(1, len(rows) // 4)),
            }
            database.executemany(
                "INSERT INTO album_picture VALUES (?, ?)", [(number, picture) for picture in sorted(chosen)]
            )
        database.commit()
