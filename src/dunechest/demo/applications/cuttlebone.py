"""Cuttlebone: a launcher of installed games."""

from __future__ import annotations

import tomllib
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from dunechest.demo.applications.base import Application, Opened, RefusalError
from dunechest.demo.games import listing_digest


class Cuttlebone(Application):
    """The launcher.

    A title is adopted when its folder and its descriptor agree. A descriptor whose
    folder is not as it says starts a (simulated) download of the whole title.
    """

    name = "cuttlebone"
    lock_mark = "launcher.open"

    @property
    def usual_place(self) -> Path:
        """A folder among the application data."""
        return self.standard("data") / "cuttlebone"

    @contextmanager
    def _held(self, library: Path) -> Iterator[Opened]:
        done = []
        if not library.exists():
            # What launchers do: better a new, empty library than a question.
            (library / "titles").mkdir(parents=True)
            (library / "descriptors").mkdir()
            done.append(f"made a new, empty library in {library}")
        descriptors = library / "descriptors"
        if not descriptors.is_dir() or not (library / "titles").is_dir():
            raise RefusalError(f"{library} is half a library: titles and descriptors belong together.")
        things, missing = [], []
        for place in sorted(descriptors.glob("*.title")):
            title = self._read(place)
            folder = library / "titles" / place.stem
            wanted = (title["files"], title["bytes"], title["listing"])
            if folder.is_dir() and listing_digest(folder) == wanted:
                things.append(f"{title['name']}: adopted")
                continue
            missing.append(str(title["name"]))
            download = library / "downloads" / f"{place.stem}.part"
            download.parent.mkdir(exist_ok=True)
            download.write_bytes(b"")
            done.append(f"began to download {title['name']}, {title['bytes']:,} bytes")
        strangers = [p.name for p in (library / "titles").iterdir() if not (descriptors / f"{p.name}.title").exists()]
        done += [f"ignored {name}: it has no descriptor" for name in sorted(strangers)]
        yield Opened(library, {"titles": len(things)}, tuple(things), tuple(missing), tuple(done))

    def _read(self, place: Path) -> dict[str, Any]:
        try:
            title = tomllib.loads(place.read_text(encoding="utf-8"))
            return {key: title[key] for key in ("name", "files", "bytes", "listing")}
        except (tomllib.TOMLDecodeError, UnicodeDecodeError, KeyError) as error:
            raise RefusalError(f"The descriptor {place.name} is broken: {error}.") from error
