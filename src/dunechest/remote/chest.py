"""A chest on a server: to all jobs it is a chest, since a folder on this computer stands in for it."""

from __future__ import annotations

import atexit
import os
import shutil
import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

from msgspec.structs import replace

from dunechest.chest.chest import Chest
from dunechest.chest.layout import BAGS, CHEST
from dunechest.errors import RefusedError, UsageError
from dunechest.names import shown
from dunechest.remote.address import Address
from dunechest.remote.protocols import open_store
from dunechest.remote.stand_in import StandIn
from dunechest.remote.store import Store

_open: dict[str, ServerChest] = {}


class ServerChest(Chest):
    """An open chest on a server.

    Attributes
    ----------
    address : Address
        Where it is.
    stand_in : StandIn
        The folder that stands in for it; `folder` is that one.
    """

    address: Address
    stand_in: StandIn

    @property
    def place(self) -> str:
        """Where the chest is, for people: its address."""
        return self.address.text

    def look_again(self) -> None:
        """Fetch all records again: what is known of them from before may by now be damaged on the server."""
        self.stand_in.fetch_records()

    def to_dict(self) -> dict[str, Any]:
        """Return which chest it is, as JSON values."""
        return super().to_dict() | {"folder": self.place}

    def close(self) -> None:
        """End the connection; the chest can be opened again."""
        _open.pop(self.address.key, None)
        self.stand_in.close()


def open_on_server(
    address: Address,
    password: Callable[[], str | None],
    state: Path,
    machine: str = "",
    tell: Callable[[str], object] = lambda name: None,
) -> ServerChest:
    """Open a chest on a server; one that this process has open is returned.

    Parameters
    ----------
    address : Address
        Where it is.
    password : callable
        Gives the password, or None if the server needs none.
    state : Path
        The folder of this computer's own records.
    machine : str
        Name of this computer.
    tell : callable
        Told which library's records are fetched.

    Raises
    ------
    UsageError
        If there is no chest.
    ServerError
        If the server does not answer, does not prove who it is, or does not let one in.
    ChestBusyError
        If another process on this computer is at work with it.
    """
    known = _open.get(address.key)
    if known is not None:
        return known
    stand_in = StandIn(address, _store(address, password()), state)
    try:
        if not stand_in.fill(tell):
            raise UsageError(
                f"There is no chest in {shown(address.text)}. To make one: dunechest chest new {shown(address.text)} --label NAME"
            )
        chest = ServerChest.open(stand_in.folder, machine=machine)
        assert isinstance(chest, ServerChest)
        chest.address, chest.stand_in = address, stand_in
    except BaseException:
        stand_in.close()
        raise
    _open[address.key] = chest
    return chest


def create_on_server(address: Address, password: str | None, label: str, state: Path) -> ServerChest:
    """Make a new chest in a folder on a server. The record by which it is known goes last.

    Raises
    ------
    UsageError
        If the label is none.
    RefusedError
        If there is a chest.
    ServerError
        If the server does not do it.
    """
    store = _store(address, password)
    if store.listing("")[0]:
        store.close()
        raise RefusedError(
            f"{shown(address.text)} already has a chest, or a folder of that name. Nothing was changed."
        )
    with tempfile.TemporaryDirectory() as scratch:
        made = Chest.create(scratch, label)
        try:
            store.make_folder(BAGS)
            for name in sorted(os.listdir(made.folder), reverse=True):  # the record of the chest comes last
                if name != BAGS:
                    content = (made.folder / name).read_bytes()
                    store.write(name, iter([content]), len(content))
        finally:
            store.close()
        shutil.rmtree(made.folder)
    return open_on_server(address, lambda: password, state)


def _store(address: Address, password: str | None) -> Store:
    return open_store(replace(address, folder=f"{address.folder}/{CHEST}".lstrip("/")), password)


def close_all() -> None:
    """Close all chests on servers that this process has open."""
    for chest in list(_open.values()):
        chest.close()


atexit.register(close_all)
