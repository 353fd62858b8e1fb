"""What is known of each protocol, once: what opens it, what an address may say, what a file costs. Others add theirs.

A package adds a protocol by an entry point of the group ``dunechest.protocols``, whose name is the word before ``://`` and which
names a `Protocol`::

    [project.entry-points."dunechest.protocols"]
    tin = "tin_chests:TIN"
"""

from __future__ import annotations

import functools
import importlib
from typing import TYPE_CHECKING

import msgspec

from dunechest.errors import PackageMissingError, UsageError
from dunechest.names import shown

if TYPE_CHECKING:
    import importlib.metadata

    from dunechest.remote.address import Address
    from dunechest.remote.store import Store

#: Where packages say which protocols they add.
GROUP = "dunechest.protocols"


class Protocol(msgspec.Struct, frozen=True):
    """A protocol that a server speaks.

    Parameters
    ----------
    name : str
        What stands before ``://``.
    store : str
        The `Store` that speaks it, as ``module:Class``; it is imported when a chest is opened.
    options : frozenset of str
        What an address may say after a question mark.
    aliases : tuple of str
        Other words before ``://`` that mean it.
    file_requests, part_requests : int
        Requests for a file of one part (sent, looked at, read back, put in place), and for each further part of a large one.
    has_home : bool
        Whether a folder is looked for in the user's own, unless the address has two slashes before it.
    host_is_bucket : bool
        Whether what stands where others have the host is a bucket, and the host is in the option ``endpoint``.
    """

    name: str
    store: str
    options: frozenset[str] = frozenset()
    aliases: tuple[str, ...] = ()
    file_requests: int = 8
    part_requests: int = 0
    has_home: bool = False
    host_is_bucket: bool = False


_OWN = (
    Protocol(
        "sftp", "dunechest.remote.sftp:SftpStore", frozenset({"known-hosts", "key"}), file_requests=12, has_home=True
    ),
    Protocol(
        "webdav",
        "dunechest.remote.webdav:WebdavStore",
        frozenset({"certificate"}),
        ("webdavs", "dav", "davs"),
        file_requests=5,
    ),
    Protocol(
        "s3",
        "dunechest.remote.s3:S3Store",
        frozenset({"endpoint", "key", "region", "certificate"}),
        file_requests=8,
        part_requests=2,
        host_is_bucket=True,
    ),
)


def protocol_of(word: str) -> Protocol | None:
    """Return the protocol that a word before ``://`` means; None if there is none.

    Raises
    ------
    UsageError
        If a package adds it and cannot be used.
    """
    for own in _OWN:
        if word == own.name or word in own.aliases:
            return own
    return _added(word)


def names() -> tuple[str, ...]:
    """Return the names of all protocols, those that packages add at the end."""
    return (*(own.name for own in _OWN), *sorted(_entries()))


@functools.cache
def _added(word: str) -> Protocol | None:
    entry = _entries().get(word)
    if entry is None:
        return None
    try:
        found = entry.load()
    except Exception as error:
        raise UsageError(f"The package that adds {shown(word)} cannot be used: {shown(str(error))}.") from error
    if not isinstance(found, Protocol) or found.name != word:
        raise UsageError(
            f"The package that adds {shown(word)} does not say how: {shown(entry.value)} is not a `Protocol` of that name."
        )
    return found


def _entries() -> dict[str, importlib.metadata.EntryPoint]:
    import importlib.metadata

    own = {word for known in _OWN for word in (known.name, *known.aliases)}
    return {entry.name: entry for entry in importlib.metadata.entry_points(group=GROUP) if entry.name not in own}


def open_store(address: Address, password: str | None) -> Store:
    """Return what speaks to a server; nothing is said to it before it has proven who it is.

    Raises
    ------
    PackageMissingError
        If the package for that protocol is not installed.
    ServerError
        If the server does not answer, does not prove who it is, or does not let one in.
    """
    protocol = protocol_of(address.protocol)
    assert protocol is not None  # or there would be no address
    try:
        module, _, name = protocol.store.partition(":")
        found: Store = getattr(importlib.import_module(module), name)(address, password)
        return found
    except ImportError as error:
        if isinstance(error, PackageMissingError):
            raise
        raise _missing_package(error) from error


def _missing_package(error: ImportError) -> PackageMissingError:
    """Return the error for a protocol whose package is not installed."""
    return PackageMissingError(
        f"A chest on a server needs another package ({error.name}): pip install 'dunechest[remote]'"
    )
