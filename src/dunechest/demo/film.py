"""The storm film: projects as bundles, clips they share, proxies, and clips left in place on a card."""

from __future__ import annotations

import json
import random
from pathlib import Path

_PROJECTS = {"Storm": 6, "Quiet Water": 4, "Ringing Day": 3}


def make(library: Path, card: Path, rng: random.Random, size: float) -> None:
    """Make the projects with their clips; the last clips of each lie on a card that is plugged in."""
    clips = library / "clips"
    clips.mkdir(parents=True)
    proxies = library / "proxies"
    proxies.mkdir()
    on_card = card / "DCIM" / "104MARSH"
    on_card.mkdir(parents=True)
    shared = "shared sky.mov"
    (clips / shared).write_bytes(_clip(rng, int(120_000 * size) + 40_000))
    for title, count in _PROJECTS.items():
        bundle = library / "projects" / f"{title}.spindrift"
        (bundle / "titles").mkdir(parents=True)
        (bundle / "titles" / "opening.svg").write_text(
            f'<svg xmlns="http://www.w3.org/2000/svg"><text>{title}</text></svg>\n', encoding="utf-8"
        )
        used = [f"../../clips/{shared}"]
        for number in range(1, count + 1):
            name = f"{title.lower()} {number:02d}.mov"
            if number == count:
                (on_card / name).write_bytes(_clip(rng, int(200_000 * size) + 50_000))
                used.append(str(on_card / name))
            else:
                (clips / name).write_bytes(_clip(rng, int(400_000 * size) + 50_000))
                (proxies / f"{name}.proxy").write_bytes(_clip(rng, int(300_000 * size) + 30_000))
                used.append(f"../../clips/{name}")
        project = {
            "made_by": "Spindrift",
            "title": title,
            "clips": [{"path": path, "from": 0, "to": rng.randint(20, 900)} for path in used],
            "opening": "titles/opening.svg",
        }
        (bundle / "project.json").write_text(json.dumps(project, indent=1) + "\n", encoding="utf-8")
    (clips / "not used yet.mov").write_bytes(_clip(rng, 90_000))


def _clip(rng: random.Random, size: int) -> bytes:
    return b"\0\0\0\x14ftypqt  \0\0\0\0qt  " + rng.randbytes(size)
