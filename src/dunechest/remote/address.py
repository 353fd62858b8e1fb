"""Where a chest on a server is: an address without a password in it."""

from __future__ import annotations

import hashlib
import posixpath
from pathlib import Path
from urllib.parse import parse_qsl, unquote, urlsplit

import msgspec

from dunechest.errors import UsageError
from dunechest.names import shown, why_unsafe
from dunechest.remote.protocols import names, protocol_of

_HERE = frozenset({"localhost", "127.0.0.1", "::1"})
EXAMPLE = "sftp://tern@backup.example/chests"


class Address(msgspec.Struct, frozen=True):
    """Where a chest is.

    Parameters
    ----------
    protocol : str
        What the server speaks: ``sftp``, ``webdav``, ``s3``, or what a package adds.
    user : str
        As whom one speaks to it; empty for whoever one is here.
    host : str
        The server; with S3 the bucket.
    port : int or None
        If it is not the usual one.
    folder : str
        The folder in which the chest is, without a slash at either end.
    options : dict
        What the address says after a question mark.
    absolute : bool
        Whether the folder begins at the top of the server, and not at the user's own folder.
    """

    protocol: str
    user: str
    host: str
    port: int | None
    folder: str
    options: dict[str, str]
    absolute: bool = False

    @property
    def text(self) -> str:
        """The address as it is written."""
        who = f"{self.user}@" if self.user else ""
        port = f":{self.port}" if self.port is not None else ""
        lead = "/" if self.absolute else ""
        asked = "&".join(f"{key}={value}" for key, value in sorted(self.options.items()))
        return f"{self.protocol}://{who}{self.host}{port}/{lead}{self.folder}" + (f"?{asked}" if asked else "")

    @property
    def account(self) -> str:
        """Under what a keyring has the password: the same for all folders of a server."""
        return self.text.partition("?")[0].removesuffix(self.folder).rstrip("/")

    @property
    def server(self) -> str:
        """What tells the server from others."""
        return self.options.get("endpoint", "") + self.host

    @property
    def key(self) -> str:
        """A short name for the place, for the folder that stands in for it."""
        told = f"{self.protocol} {self.user} {self.server} {self.port} {self.absolute} {self.folder}"
        return hashlib.sha256(told.encode()).hexdigest()[:24]

    @property
    def plain(self) -> bool:
        """Whether what is said to the server can be heard by others: only to a server on this computer, where nobody listens."""
        if "endpoint" not in self.options:
            return self.host in _HERE
        endpoint = urlsplit(self.options["endpoint"])
        return endpoint.scheme == "http" and endpoint.hostname in _HERE


def is_address(text: str) -> bool:
    """Whether a word is the address of a chest on a server, and no folder or label."""
    return "://" in text


def address_of(text: str) -> Address:
    """Read an address.

    Parameters
    ----------
    text : str
        ``sftp://USER@HOST:PORT/FOLDER``, ``webdav://...`` (always with TLS, unless it is this computer itself) or
        ``s3://BUCKET/FOLDER?endpoint=https://HOST&key=ID``.

    Raises
    ------
    UsageError
        If it is none, or has a password in it.
    """
    try:
        parts = urlsplit(text)
        port = parts.port
    except ValueError:
        raise UsageError(f"This is no address of a server. An example: {EXAMPLE}") from None
    protocol = protocol_of(parts.scheme)
    if parts.password is not None:
        raise UsageError(
            "The address has a password in it, where others could read it. Leave it out: the password is asked for and kept in "
            "the system's keyring. Nothing was written down."
        )
    if protocol is None:
        *some, last = names()
        raise UsageError(f"A chest can be on a server that speaks {', '.join(some)} or {last}. An example: {EXAMPLE}")
    folder = unquote(parts.path)
    absolute = folder.startswith("//") and protocol.has_home
    folder = posixpath.normpath(folder.strip("/")) if folder.strip("/") else ""
    if not parts.hostname or (folder and why_unsafe(folder) is not None):
        raise UsageError(
            f"{shown(text.partition('?')[0])} names no server, or no folder there. An example: {EXAMPLE}"
        )
    options = dict(parse_qsl(parts.query, keep_blank_values=True))
    odd = sorted(options.keys() - protocol.options)
    if odd:
        known = (
            f"It may say: {', '.join(sorted(protocol.options))}." if protocol.options else "It may say nothing there."
        )
        raise UsageError(f"The address says {shown(odd[0])}, which is not understood. {known}")
    host = parts.netloc.rpartition("@")[2].partition("/")[0] if protocol.host_is_bucket else parts.hostname
    found = Address(protocol.name, unquote(parts.username or ""), host, port, folder, options, absolute)
    endpoint = options.get("endpoint", "")
    if endpoint and not endpoint.startswith("https://") and not found.plain:
        raise UsageError(
            "What is said to that server could be heard and changed by others: its endpoint must be https://..."
        )
    return found


def own_file(text: str) -> Path:
    """Return a file that an option names."""
    return Path(text).expanduser()
