"""Offices for tests: a database with its computers, each with a home of its own."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

import pytest

import dunechest
from tests.support.postgres import KEEPER, Server

if TYPE_CHECKING:
    import psycopg

SECRET = "tern-{}-under-the-mat"


class OfficeOf(NamedTuple):
    """An office: its server and database, and the folder in which its computers have their homes."""

    server: Server
    database: str
    top: Path

    @property
    def owner(self) -> str:
        """The address as the owner of the database."""
        return self.server.address(KEEPER, self.database)

    def add(self, name: str) -> str:
        """Let a computer in, and return the address that it joins with."""
        return dunechest.offices.add_office_computer(self.owner, name, SECRET.format(name)).address

    def password(self, name: str) -> str:
        """Return the command that prints a computer's password."""
        return f"echo {SECRET.format(name)}"

    def role(self, name: str) -> str:
        """Return the role of a computer."""
        return f"{self.database}-{name}"

    def join(self, name: str) -> dunechest.model.Joined:
        """Let a computer in, and have it join."""
        with self.at(name):
            return dunechest.offices.join_office(self.add(name), command=self.password(name))

    def meant(self, words: list[str]) -> list[str]:
        """Return an example of a command with this office's own addresses and passwords."""
        asked = [word if not word.startswith("postgresql") else self.owner for word in words]
        if words[:2] == ["office", "add"]:
            return [*asked, "--secret-from", self.password(words[3])]
        if words[:2] == ["office", "join"]:
            own = self.server.address(self.role("office-pc"), self.database)
            return ["office", "join", own, "--password-from", self.password("office-pc")]
        return [*asked[:-1], "office-pc"] if words[:2] == ["office", "remove"] else asked

    @contextmanager
    def at(self, name: str) -> Iterator[Path]:
        """Be at one of the computers while the block runs."""
        home = self.top / name
        (home / "home").mkdir(parents=True, exist_ok=True)
        with pytest.MonkeyPatch.context() as patch:
            patch.setenv("HOME", str(home / "home"))
            patch.setenv("DUNECHEST_HOME", str(home / "state"))
            yield home

    def connect(self, name: str = "") -> psycopg.Connection[tuple[object, ...]]:
        """Speak to the server as somebody who writes statements by hand: a computer, or the owner."""
        import psycopg

        return psycopg.connect(
            host=str(self.server.folder), port=self.server.port, user=self.role(name) if name else KEEPER,
            password=SECRET.format(name), dbname=self.database, options="-c search_path=dunechest", autocommit=True,
        )  # fmt: skip


def office_of(server: Server, top: Path, names: tuple[str, ...] = ()) -> OfficeOf:
    """Make an office, and have computers join it."""
    office = OfficeOf(server, server.new_database(), top)
    dunechest.offices.set_up_office(office.owner)
    for name in names:
        office.join(name)
    return office


def archive_one(office: OfficeOf, name: str, label: str, files: dict[str, str], library: str = "notes") -> None:
    """Archive a library of some files on a computer to a drive of its own that is connected."""
    drive = office.top / "drives" / label
    with office.at(name) as home, drives(drive):
        folder = home / "home" / library
        for path, text in files.items():
            (folder / path).parent.mkdir(parents=True, exist_ok=True)
            (folder / path).write_text(text)
        if not (drive / "dune-chest").is_dir():
            drive.mkdir(parents=True)
            dunechest.create_chest(drive, label)
        dunechest.archive(folder, drive)


@contextmanager
def drives(*places: Path) -> Iterator[None]:
    """Have drives connected while the block runs."""
    with pytest.MonkeyPatch.context() as patch:
        patch.setenv("DUNECHEST_DRIVES", os.pathsep.join(map(str, places)))
        yield


Make = Callable[..., OfficeOf]


def office_if_possible(request: pytest.FixtureRequest, top: Path) -> OfficeOf | None:
    """Return an office with nobody in it; None where there is no server."""
    try:
        server: Server = request.getfixturevalue("office_server")
    except pytest.skip.Exception:
        return None
    return OfficeOf(server, server.new_database(), top)
