"""The handset backups: a folder a device, with cryptic names that only its list explains."""

from __future__ import annotations

import random
import sqlite3
from contextlib import closing
from pathlib import Path

_DEVICES = {"Tern's handset": 30, "Old field handset": 14}


def make(library: Path, rng: random.Random, size: float) -> None:
    """Make the backups of two devices; the first has a write cache beside it."""
    for name, count in _DEVICES.items():
        device = library / rng.randbytes(20).hex()
        device.mkdir(parents=True)
        with closing(sqlite3.connect(device / "list.limpet")) as database:
            database.execute(
                "CREATE TABLE item (stored TEXT NOT NULL, domain TEXT NOT NULL, true_path TEXT NOT NULL)"
            )
            for number in range(max(3, round(count * size))):
                digest = rng.randbytes(20).hex()
                place = device / digest[:2] / digest
                place.parent.mkdir(exist_ok=True)
                place.write_bytes(rng.randbytes(rng.randint(20_000, 160_000)))
                row = (f"{digest[:2]}/{digest}", "pictures", f"roll/{number:04d}.jpg")
                database.execute("INSERT INTO item VALUES (?, ?, ?)", row)
            database.commit()
        (device / "device.toml").write_text(
            f'# Limpet device\nname = "{name}"\nlist = "list.limpet"\n', encoding="utf-8"
        )
        (device / "transfer-cache").mkdir()
        (device / "transfer-cache" / "last.part").write_bytes(rng.randbytes(120_000))
