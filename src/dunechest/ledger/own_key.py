"""The key with which this computer signs what it writes into the logs of chests (Ed25519, RFC 8032)."""

from __future__ import annotations

import hashlib
import os
from pathlib import Path

from dunechest.transfer import safe
from dunechest.transfer.owner import hand_over, make_own

NAME = "log-key"
_BYTES = 32
#: Hexadecimal digits of an id.
DIGITS = 32


def id_of(public: bytes) -> str:
    """Return the id in logs of the computer that has a public key."""
    return hashlib.sha256(public).hexdigest()[:DIGITS]


class OwnKey:
    """A key pair.

    Parameters
    ----------
    private : bytes
        The private key: 32 bytes.
    """

    def __init__(self, private: bytes) -> None:
        from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
        from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat

        self._key = Ed25519PrivateKey.from_private_bytes(private)
        #: The public key: 32 bytes.
        self.public = self._key.public_key().public_bytes(Encoding.Raw, PublicFormat.Raw)

    def sign(self, text: bytes) -> bytes:
        """Return the signature of a text: 64 bytes."""
        return self._key.sign(text)


def own_key(state: Path) -> OwnKey:
    """Return this computer's key, making it the first time.

    Parameters
    ----------
    state : Path
        The folder of this computer's own records.

    Raises
    ------
    OSError
        If it cannot be read or kept: what is signed by a key that is gone tomorrow helps nobody.
    """
    file = state / NAME
    try:
        private, public = _halves(file)
        key = OwnKey(private)
        if key.public != public:
            raise ValueError("it is harmed")
        return key
    except FileNotFoundError:
        pass
    except ValueError:
        file.replace(file.with_name(f"{NAME}.harmed"))
    make_own(state)
    private = os.urandom(_BYTES)
    safe.write_file(file, f"{private.hex()}\n{OwnKey(private).public.hex()}\n".encode(), mode=0o600)
    hand_over(state)
    return OwnKey(_halves(file)[0])  # another process may have made one in the same moment


def own_log_id(state: Path) -> str:
    """Return this computer's id in logs; empty if it never wrote into one. No library for keys is loaded."""
    try:
        return id_of(_halves(state / NAME)[1])
    except (OSError, ValueError):
        return ""


def _halves(file: Path) -> tuple[bytes, bytes]:
    private, _, public = safe.read_bounded(file, 1 << 10).decode("ascii").partition("\n")
    halves = bytes.fromhex(private), bytes.fromhex(public)
    if any(len(half) != _BYTES for half in halves):
        raise ValueError("it is no key")
    return halves
