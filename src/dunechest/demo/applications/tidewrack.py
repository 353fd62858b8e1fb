"""Tidewrack: notes in one database."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from contextlib import closing, contextmanager
from pathlib import Path

from dunechest.demo.applications.base import Application, Opened, RefusalError


class Tidewrack(Application):
    """The notebook."""

    name = "tidewrack"
    lock_mark = "notes.open"

    @property
    def usual_place(self) -> Path:
        """A hidden folder in the home folder."""
        return self.home / ".tidewrack"

    def write(self, title: str, body: str) -> None:
        """Write a note, as a person does while the application is open."""
        with closing(sqlite3.connect(self.library / "notes.tide")) as database, database:
            database.execute("INSERT INTO note (notebook, title, body) VALUES (1, ?, ?)", (title, body))

    @contextmanager
    def _held(self, library: Path) -> Iterator[Opened]:
        place = library / "notes.tide"
        if not place.is_file():
            raise RefusalError(f"There are no notes in {library}.")
        with closing(sqlite3.connect(place)) as database:
            try:
                words = database.execute("PRAGMA integrity_check(1)").fetchone()[0]
                titles = [row[0] for row in database.execute("SELECT title FROM note ORDER BY id")]
                books = database.execute("SELECT count(*) FROM notebook").fetchone()[0]
            except sqlite3.DatabaseError as error:
                raise RefusalError(f"The notes are broken: {error}.") from error
            if words != "ok":
                raise RefusalError(f"The notes are broken: {words}.")
            done = []
            index = library / "search-index" / "words.idx"
            if not index.exists():
                index.parent.mkdir(exist_ok=True)
                index.write_bytes(b"made again")
                done.append("search index made again")
            yield Opened(library, {"notes": len(titles), "notebooks": books}, tuple(titles), (), tuple(done))
