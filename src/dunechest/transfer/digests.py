"""Digest algorithms by the names that RFC 8493, section 2.4, gives them, and BLAKE3."""

from __future__ import annotations

import hashlib
from typing import Protocol

from blake3 import blake3


class Digest(Protocol):
    """The part of hashlib's interface that is used; long updates let other threads run."""

    def update(self, data: bytes | memoryview, /) -> object:
        """Take in more bytes."""

    def digest(self) -> bytes:
        """Return the digest of all bytes so far."""


def new(algorithm: str) -> Digest:
    """Start a digest; `algorithm` is one that a manifest may use (RFC 8493, section 2.4), or ``blake3``."""
    if algorithm == "blake3":
        return blake3()
    return hashlib.new(algorithm, usedforsecurity=False)


def once(algorithm: str, data: bytes | memoryview) -> bytes:
    """Digest bytes that are all there."""
    if algorithm == "blake3":
        return blake3(data).digest()
    if algorithm == "sha512":  # by its own name OpenSSL need not be asked what it is called
        return hashlib.sha512(data, usedforsecurity=False).digest()
    return hashlib.new(algorithm, data, usedforsecurity=False).digest()
