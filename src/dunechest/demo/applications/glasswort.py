"""Glasswort: pictures, albums, captions."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from contextlib import closing, contextmanager
from pathlib import Path

from dunechest.demo.applications.base import Application, Opened, RefusalError
from dunechest.transfer.placeholder import is_placeholder


class Glasswort(Application):
    """The photo catalogue."""

    name = "glasswort"
    lock_mark = ".glasswort-open"

    @property
    def usual_place(self) -> Path:
        """Pictures/Glasswort in the home folder."""
        return self.standard("pictures") / "Glasswort"

    @contextmanager
    def _held(self, library: Path) -> Iterator[Opened]:
        catalogue = library / "catalogue.glw"
        if not catalogue.is_file():
            raise RefusalError(f"There is no catalogue in {library}.")
        if not (library / "originals").is_dir():
            raise RefusalError(f"The originals of {library} are gone; a catalogue alone is nothing.")
        with closing(sqlite3.connect(catalogue)) as database:
            try:
                words = database.execute("PRAGMA integrity_check(1)").fetchone()[0]
                rows = database.execute(
                    "SELECT picture.id, folder.path, picture.name, picture.caption "
                    "FROM picture JOIN folder ON folder.id = picture.folder ORDER BY picture.id"
                ).fetchall()
                remarks = dict(database.execute("SELECT key, value FROM remark"))
                albums = database.execute("SELECT count(*) FROM album").fetchone()[0]
            except sqlite3.DatabaseError as error:
                raise RefusalError(f"The catalogue is broken: {error}.") from error
            if words != "ok":
                raise RefusalError(f"The catalogue is broken: {words}.")
            yield self._show(library, rows, albums, remarks.get("home", ""))

    def _show(self, library: Path, rows: list[tuple[int, str, str, str]], albums: int, old_home: str) -> Opened:
        things, missing, moved, remade, placeholders = [], [], 0, 0, 0
        for number, folder, name, caption in rows:
            place = Path(folder) / name
            if not place.is_file():
                place = self._moved(library, folder, old_home) / name
                moved += place.is_file()
            if place.is_file() and is_placeholder(str(place), place.stat()):
                placeholders += 1
                things.append(f"{name}: {caption} (not fetched yet)")
            elif place.is_file():
                things.append(f"{name}: {caption}")
                remade += self._preview(library, number, place)
            else:
                missing.append(str(Path(folder) / name))
        done = []
        if moved:
            done.append(f"{moved} pictures found in their new place")
        if placeholders:
            done.append(f"{placeholders} pictures are only placeholders and will be fetched when they are looked at")
        if remade:
            done.append(f"{remade} previews made again")
        return Opened(
            library, {"pictures": len(things), "albums": albums}, tuple(things), tuple(missing), tuple(done)
        )

    def _moved(self, library: Path, folder: str, old_home: str) -> Path:
        """Say where a folder is now: below this library, or in the present home if it was in the former."""
        plain = folder.replace("\\", "/")
        _, mark, tail = plain.rpartition("/originals/")
        if mark:
            return library / "originals" / tail
        if old_home and plain.startswith(old_home + "/"):
            return self.home / plain[len(old_home) + 1 :]
        return Path(folder)

    def _preview(self, library: Path, number: int, original: Path) -> bool:
        """Make a preview again if it is missing."""
        place = library / "previews" / f"{(number - 1) % 16:x}" / f"{number - 1:05d}.jpg"
        if place.exists():
            return False
        from PIL import Image

        place.parent.mkdir(parents=True, exist_ok=True)
        with Image.open(original) as picture:
            picture.resize((480, 320)).save(place, "JPEG", quality=85)
        return True
