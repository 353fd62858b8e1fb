"""Digest algorithms, each declared once: by the names that RFC 8493, section 2.4, gives them, and BLAKE3.

Another one is another entry of `ALGORITHMS`: manifests of it are then read, verified, and restored from.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable
from typing import NamedTuple, Protocol

from blake3 import blake3


class Digest(Protocol):
    """The part of hashlib's interface that is used; long updates let other threads run."""

    def update(self, data: bytes | memoryview, /) -> object:
        """Take in more bytes."""

    def digest(self) -> bytes:
        """Return the digest of all bytes so far."""


class Algorithm(NamedTuple):
    """A digest algorithm.

    Parameters
    ----------
    digits : int
        Hexadecimal digits of its digest.
    start : callable
        Starts a digest, with the bytes it is given.
    in_manifests : bool
        Whether a manifest may be of it (RFC 8493, section 2.4).
    """

    digits: int
    start: Callable[[bytes | memoryview], Digest]
    in_manifests: bool = True


def _of_system(name: str) -> Callable[[bytes | memoryview], Digest]:
    return lambda data: hashlib.new(name, data, usedforsecurity=False)


#: Every algorithm, the strongest first.
ALGORITHMS = {
    "blake3": Algorithm(64, blake3, in_manifests=False),
    # By its own name OpenSSL need not be asked what it is called.
    "sha512": Algorithm(128, lambda data: hashlib.sha512(data, usedforsecurity=False)),
    "sha384": Algorithm(96, _of_system("sha384")),
    "sha256": Algorithm(64, _of_system("sha256")),
    "sha224": Algorithm(56, _of_system("sha224")),
    "sha1": Algorithm(40, _of_system("sha1")),
    "md5": Algorithm(32, _of_system("md5")),
}


def of_manifests() -> dict[str, int]:
    """Return how many hexadecimal digits each algorithm's digest has that a manifest may be of, the strongest first."""
    return {name: algorithm.digits for name, algorithm in ALGORITHMS.items() if algorithm.in_manifests}


def new(algorithm: str) -> Digest:
    """Start a digest by an algorithm's name."""
    return ALGORITHMS[algorithm].start(b"")


def once(algorithm: str, data: bytes | memoryview) -> bytes:
    """Digest bytes that are all there."""
    return ALGORITHMS[algorithm].start(data).digest()
