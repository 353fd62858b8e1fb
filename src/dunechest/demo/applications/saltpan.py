"""Saltpan: designs for signs."""

from __future__ import annotations

import json
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from dunechest.demo.applications.base import Application, Opened, RefusalError

_FONTS = 2


class Saltpan(Application):
    """The drawing board. Bought fonts that are not there are fetched again from the shop, by the buyer."""

    name = "saltpan"
    lock_mark = ".saltpan-open"

    @property
    def usual_place(self) -> Path:
        """Documents/Saltpan in the home folder."""
        return self.standard("documents") / "Saltpan"

    @contextmanager
    def _held(self, library: Path) -> Iterator[Opened]:
        try:
            designs = json.loads((library / "index.json").read_text(encoding="utf-8"))["designs"]
            rows = [(row["title"], row["file"], row["preview"]) for row in designs.values()]
        except (OSError, ValueError, KeyError, TypeError) as error:
            raise RefusalError(f"The index of {library} is broken: {error}.") from error
        things, missing, remade = [], [], 0
        for title, file, preview in rows:
            place = library / file
            if not place.is_file() or not (place.parent / "background.png").is_file():
                missing.append(file)
                continue
            things.append(title)
            if not (library / preview).is_file():
                (library / preview).parent.mkdir(exist_ok=True)
                (library / preview).write_bytes(b"made again")
                remade += 1
        done = [f"{remade} renders made again"] if remade else []
        fonts = len(list((library / "bought" / "fonts").glob("*.otf")))
        if fonts < _FONTS:
            done.append(f"{_FONTS - fonts} bought fonts have to be fetched from the shop again, with the licence")
        yield Opened(library, {"designs": len(things)}, tuple(things), tuple(missing), tuple(done))
