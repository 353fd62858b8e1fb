"""The sign shop: designs in nested folders, an index, fonts that were bought and may not leave."""

from __future__ import annotations

import json
import random
from pathlib import Path

_CUSTOMERS = {
    "Harbour Office": ("Mooring plan", "No swimming"),
    "Bird Station": ("Nesting area", "Ring count", "Path closed"),
    "Café Strandläufer": ("Menu board",),
}


def make(library: Path, rng: random.Random, size: float) -> None:
    """Make the jobs of three customers, the shared logos, the bought fonts and the index."""
    (library / "shared").mkdir(parents=True)
    _paint(library / "shared" / "logo.png", rng, 240)
    fonts = library / "bought" / "fonts"
    fonts.mkdir(parents=True)
    for name in ("Groyne Sans.otf", "Groyne Sans Bold.otf"):
        (fonts / name).write_bytes(b"OTTO" + rng.randbytes(60_000))
    (library / "bought" / "licence.txt").write_text(
        "Bought for one computer of the sign shop. Not to be passed on.\n", encoding="utf-8"
    )
    index: dict[str, dict[str, str]] = {}
    number = 0
    for customer, signs in _CUSTOMERS.items():
        for sign in signs:
            number += 1
            year = 2020 + number % 5
            folder = library / "jobs" / customer / str(year) / sign
            (folder / "drafts" / "first").mkdir(parents=True)
            _paint(folder / "background.png", rng, int(200 * size**0.5) + 60)
            (folder / "sign.svg").write_text(
                '<svg xmlns="http://www.w3.org/2000/svg" xmlns:xlink="http://www.w3.org/1999/xlink">\n'
                f' <image href="background.png"/>\n <image xlink:href="../../../../shared/logo.png"/>\n'
                f" <text>{sign}</text>\n</svg>\n",
                encoding="utf-8",
            )
            (folder / "drafts" / "first" / "sign.svg").write_text("<svg/>\n", encoding="utf-8")
            below = folder.relative_to(library).as_posix()
            index[f"sign-{number:03d}"] = {
                "title": sign,
                "file": f"{below}/sign.svg",
                "preview": _render(library, number, rng),
            }
    (library / "index.json").write_text(
        json.dumps({"made_by": "Saltpan", "designs": index}, indent=1, ensure_ascii=False) + "\n", encoding="utf-8"
    )


def _render(library: Path, number: int, rng: random.Random) -> str:
    path = library / "renders" / f"sign-{number:03d}.png"
    path.parent.mkdir(exist_ok=True)
    _paint(path, rng, 90)
    return path.relative_to(library).as_posix()


def _paint(path: Path, rng: random.Random, width: int) -> None:
    from PIL import Image

    Image.frombytes("RGB", (width, width * 2 // 3), rng.randbytes(width * (width * 2 // 3) * 3)).save(path, "PNG")
