"""Intact bytes by their digest: where in other chests a file lies that is damaged or missing in one."""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator, Mapping
from pathlib import Path
from typing import Protocol

import msgspec
from blake3 import blake3

from dunechest.chest import editions
from dunechest.chest.bag_records import BagRecords
from dunechest.chest.chest import Chest
from dunechest.chest.editions import Places
from dunechest.chest.layout import DATA, LIBRARY_FILES
from dunechest.errors import DuneChestError
from dunechest.jobs.known.chests import list_chests
from dunechest.names import shown, why_unsafe
from dunechest.transfer import disk, safe
from dunechest.transfer.digest_files import digest_of


class Supplier(Protocol):
    """Somebody who may have bytes."""

    @property
    def label(self) -> str:
        """Whose they are, in words."""

    def offers(self, digest: str, path: str) -> Iterator[Iterator[bytes]]:
        """Yield what may be the bytes of a BLAKE3 digest, each in blocks; `path` is theirs in the bag that lacks them."""


class BagSupplier(msgspec.Struct, frozen=True):
    """A bag: whose it is, in words, and where in it which bytes are."""

    label: str
    places: Places

    def offers(self, digest: str, path: str) -> Iterator[Iterator[bytes]]:
        """Yield what should have such a digest, by the bag's records."""
        plain = self.places.plain.get(digest)
        if plain is not None:
            yield _blocks(self.places.own.at(plain))
        if digest in self.places.pieces:
            yield self.places.assemble(digest)


class LibrarySupplier(msgspec.Struct, frozen=True):
    """A library on this computer: what was archived of it may be as it was then.

    Parameters
    ----------
    label : str
        In words.
    root : Path
        The library.
    names : mapping
        Paths in the library of those files that have another name below ``data/library/``.
    """

    label: str
    root: Path
    names: Mapping[str, str]

    def offers(self, digest: str, path: str) -> Iterator[Iterator[bytes]]:
        """Yield the file of the library that was archived under a path."""
        prefix = DATA + LIBRARY_FILES
        if path.startswith(prefix):
            stored = path[len(prefix) :]
            own = self.names.get(stored, stored)
            if self.root.is_file():
                yield _blocks(self.root)
            elif why_unsafe(own) is None:
                yield _blocks(self.root / own)


def bag_suppliers(bags: Iterable[tuple[str, BagRecords]]) -> Iterator[Supplier]:
    """Yield bags as suppliers; one whose records are damaged supplies nothing."""
    for label, own in bags:
        try:
            files = [proven.record for proven in editions.current_files(own).values()]
            yield BagSupplier(label, editions.places_of_bytes(own, files))
        except (DuneChestError, OSError):
            continue


class Supplies:
    """Those who may have bytes, the likeliest first; each is looked at when it is first needed.

    Parameters
    ----------
    suppliers : iterable of Supplier
        Gone through once.
    """

    def __init__(self, suppliers: Iterable[Supplier]) -> None:
        self._rest = iter(suppliers)
        self._known: list[Supplier] = []

    def _suppliers(self) -> Iterator[Supplier]:
        yield from list(self._known)
        for supplier in self._rest:
            self._known.append(supplier)
            yield supplier

    def fetch(self, digest: str, path: str, target: Path) -> str | None:
        """Write intact bytes of a digest to a new file and read them back; return whose they are, None if nobody's.

        Parameters
        ----------
        digest : str
            BLAKE3, in hexadecimal.
        path : str
            Where they belong, in the bag that lacks them.
        target : Path
            The new file.

        Raises
        ------
        OSError
            If the target cannot be written.
        """
        for supplier in self._suppliers():
            for blocks in supplier.offers(digest, path):
                if _write(target, blocks, digest):
                    return supplier.label
        return None


def _blocks(path: Path) -> Iterator[bytes]:
    with os.fdopen(safe.open_regular(path), "rb") as file:
        while block := file.read(1 << 20):
            yield block


class _TargetError(Exception):
    """The target cannot be written, whatever the source gives."""


def _write(target: Path, blocks: Iterator[bytes], digest: str) -> bool:
    """Write blocks to a new file if their digest is the one that is wanted; nothing is left of others."""
    disk.make_folder(target.parent)
    disk.remove(target, missing_ok=True)
    fd = disk.create(target, os.O_WRONLY | os.O_CREAT | os.O_EXCL | getattr(os, "O_BINARY", 0), 0o644)
    found = blake3()
    whole = False
    try:
        try:
            for block in blocks:
                found.update(block)
                try:
                    safe.write_all(fd, block)
                except OSError as error:
                    raise _TargetError from error
        except (OSError, DuneChestError, ValueError):
            return False
        except _TargetError as error:
            assert isinstance(error.__cause__, OSError)
            raise error.__cause__ from None
        if found.hexdigest() != digest:
            return False
        disk.flush_file(fd)
        whole = True
    finally:
        os.close(fd)
        if not whole:
            disk.remove(target, missing_ok=True)
    return digest_of(target) == digest


def other_chests(bag: str, *, beside: Iterable[Chest]) -> Iterator[tuple[str, BagRecords]]:
    """Yield the bags of other connected chests, those of one name first, with their chests' labels.

    Parameters
    ----------
    bag : str
        The name that comes first.
    beside : iterable of Chest
        Chests that are left out.
    """
    out = {os.path.realpath(chest.folder) for chest in beside}
    later: list[tuple[str, BagRecords]] = []
    for known in list_chests().chests:
        if not known.connected or os.path.realpath(known.path) in out:
            continue
        try:
            entries = Chest.open(known.path, finish=False).bags()
        except DuneChestError:
            continue
        for entry in entries:
            if entry.library is not None:
                item = shown(known.label), entry.records
                if entry.name == bag:
                    yield item
                else:
                    later.append(item)
    yield from later
