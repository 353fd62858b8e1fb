"""The winter games: a folder and a descriptor a title, on a second drive; saves and rules elsewhere."""

from __future__ import annotations

import hashlib
import json
import random
from pathlib import Path

from dunechest.machine.folders import standard_folders

HEADER = "# Cuttlebone title"

_TITLES = (
    ("lanternfish", "Lanternfish", 5),
    ("gull-parliament", "Gull Parliament", 3),
    ("ninth-groyne", "The Ninth Groyne", 4),
    ("saltmarsh-sled", "Saltmarsh Sled", 2),
)


def make(library: Path, home: Path, rng: random.Random, size: float) -> None:
    """Make the installed titles, and the saves and house rules in the person's home."""
    for slug, name, megabytes in _TITLES:
        folder = library / "titles" / slug
        (folder / "levels").mkdir(parents=True)
        (folder / f"{slug}.run").write_bytes(b"#!made-up program\n" + rng.randbytes(40_000))
        (folder / f"{slug}.run").chmod(0o755)
        for level in range(1, 6):
            body = rng.randbytes(int(megabytes * size * 200_000))
            (folder / "levels" / f"level {level}.pak").write_bytes(body)
        (folder / "mods").mkdir()
        write_descriptor(library, slug, name)
    (library / "shader-cache").mkdir()
    (library / "shader-cache" / "all.bin").write_bytes(rng.randbytes(300_000))
    saves = standard_folders(home)["data"] / "cuttlebone-saves"
    saves.mkdir(parents=True)
    for slug, _, _ in _TITLES:
        (saves / f"{slug}.save").write_bytes(rng.randbytes(5_000))
    (saves / "house-rules.json").write_text(json.dumps({"no games before noon": True}) + "\n", encoding="utf-8")


def listing_digest(folder: Path) -> tuple[int, int, str]:
    """Return number of files, bytes, and a digest over names and sizes of a title's folder."""
    lines = sorted(
        f"{path.relative_to(folder).as_posix()} {path.stat().st_size}" for path in folder.rglob("*") if path.is_file()
    )
    total = sum(int(line.rpartition(" ")[2]) for line in lines)
    return len(lines), total, hashlib.sha256("\n".join(lines).encode()).hexdigest()


def write_descriptor(library: Path, slug: str, name: str) -> None:
    """Write the descriptor of a title from its folder."""
    files, total, digest = listing_digest(library / "titles" / slug)
    place = library / "descriptors"
    place.mkdir(exist_ok=True)
    (place / f"{slug}.title").write_text(
        f'{HEADER}\nid = "{slug}"\nname = "{name}"\nfolder = "titles/{slug}"\n'
        f'files = {files}\nbytes = {total}\nlisting = "{digest}"\n',
        encoding="utf-8",
    )
