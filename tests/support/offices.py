"""Offices for tests: a database with its computers, each with a home of its own."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import NamedTuple

import psycopg
import pytest

import dunechest
from tests.support.postgres import KEEPER, Server

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
        return dunechest.add_office_computer(self.owner, name, SECRET.format(name)).address

    def password(self, name: str) -> str:
        """Return the command that prints a computer's password."""
        return f"echo {SECRET.format(name)}"

    def role(self, name: str) -> str:
        """Return the role of a computer."""
        return f"{self.database}-{name}"

    def join(self, name: str) -> dunechest.Joined:
        """Let a computer in, and have it join."""
        with self.at(name):
            return dunechest.join_office(self.add(name), command=self.password(name))

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
        return psycopg.connect(
            host=str(self.server.folder), port=self.server.port, user=self.role(name) if name else KEEPER,
            password=SECRET.format(name), dbname=self.database, options="-c search_path=dunechest", autocommit=True,
        )  # fmt: skip


def office_of(server: Server, top: Path, names: tuple[str, ...] = ()) -> OfficeOf:
    """Make an office, and have computers join it."""
    office = OfficeOf(server, server.new_database(), top)
    dunechest.set_up_office(office.owner)
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
