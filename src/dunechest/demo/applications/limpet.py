"""Limpet: backups of handsets."""

from __future__ import annotations

import sqlite3
import tomllib
from collections.abc import Iterator
from contextlib import closing, contextmanager
from pathlib import Path

from dunechest.demo.applications.base import Application, Opened, RefusalError


class Limpet(Application):
    """The handset keeper."""

    name = "limpet"
    lock_mark = "limpet.open"

    @property
    def usual_place(self) -> Path:
        """A folder among the application data."""
        return self.standard("data") / "limpet" / "devices"

    @contextmanager
    def _held(self, library: Path) -> Iterator[Opened]:
        devices = sorted(library.glob("*/device.toml"))
        if not devices:
            raise RefusalError(f"There is no backup of a handset in {library}.")
        things, missing, items = [], [], 0
        for place in devices:
            try:
                device = tomllib.loads(place.read_text(encoding="utf-8"))
                with closing(sqlite3.connect(place.parent / device["list"])) as database:
                    rows = database.execute("SELECT stored, true_path FROM item").fetchall()
            except (OSError, ValueError, KeyError, sqlite3.DatabaseError) as error:
                raise RefusalError(f"The list of {place.parent.name} is broken: {error}.") from error
            items += sum((place.parent / stored).is_file() for stored, _ in rows)
            missing += [f"{device['name']}: {path}" for stored, path in rows if not (place.parent / stored).is_file()]
            things.append(device["name"])
        yield Opened(library, {"devices": len(devices), "items": items}, tuple(things), tuple(missing))
