"""Spindrift: film projects."""

from __future__ import annotations

import json
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from dunechest.demo.applications.base import Application, Opened, RefusalError


class Spindrift(Application):
    """The film editor. A clip that is not in its place is looked for by name, beside the library too."""

    name = "spindrift"
    lock_mark = "spindrift.open"

    @property
    def usual_place(self) -> Path:
        """Videos/Spindrift in the home folder."""
        return self.standard("videos") / "Spindrift"

    @contextmanager
    def _held(self, library: Path) -> Iterator[Opened]:
        bundles = sorted((library / "projects").glob("*.spindrift"))
        if not bundles:
            raise RefusalError(f"There are no projects in {library}.")
        things, missing, clips, remade = [], [], 0, 0
        for bundle in bundles:
            try:
                project = json.loads((bundle / "project.json").read_text(encoding="utf-8"))
                used = [clip["path"] for clip in project["clips"]]
            except (OSError, ValueError, KeyError, TypeError) as error:
                raise RefusalError(f"The project {bundle.name} is broken: {error}.") from error
            for path in used:
                place = self._find(library, bundle, path)
                if place is None:
                    missing.append(f"{bundle.name}: {path}")
                    continue
                clips += 1
                proxy = library / "proxies" / f"{place.name}.proxy"
                if place.parent == library / "clips" and not proxy.exists():
                    proxy.parent.mkdir(exist_ok=True)
                    proxy.write_bytes(b"made again")
                    remade += 1
            things.append(str(project["title"]))
        done = (f"{remade} proxies made",) if remade else ()
        yield Opened(library, {"projects": len(bundles), "clips": clips}, tuple(things), tuple(missing), done)

    def _find(self, library: Path, bundle: Path, path: str) -> Path | None:
        place = bundle / path
        if place.is_file():
            return place
        beside = library.parent / f"{library.name} outside files"
        return next((p for p in (library / "clips" / place.name, *beside.rglob(place.name)) if p.is_file()), None)
