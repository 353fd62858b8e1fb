"""Passwords: from the system's keyring, or from a command of a person's own. They are written down nowhere else."""

from __future__ import annotations

import subprocess
from collections.abc import Sequence

from dunechest.errors import PackageMissingError, UsageError
from dunechest.names import shown

#: Under this name the keyring has what belongs to Dune Chest.
SERVICE = "dunechest"
#: Seconds; the command may ask a person something.
_PATIENCE = 120
#: Keyrings that are a file which anybody may read who gets it.
_OPEN = ("keyrings.alt.file", "keyrings.cryptfile.file")


def from_command(words: Sequence[str]) -> str:
    """Return the first line that a command prints.

    Parameters
    ----------
    words : sequence of str
        The command and its arguments; no shell takes them apart.

    Raises
    ------
    UsageError
        If it cannot be run, fails or prints nothing. What it printed is not told.
    """
    name = shown(words[0]) if words else "(nothing)"
    try:
        ran = subprocess.run(list(words), stdout=subprocess.PIPE, timeout=_PATIENCE, check=False)
    except (OSError, IndexError, ValueError) as error:
        why = getattr(error, "strerror", None) or "there is no such command"
        raise UsageError(f"The command that gives the password, {name}, cannot be run: {why}.") from None
    except subprocess.TimeoutExpired:
        raise UsageError(f"The command that gives the password, {name}, took longer than two minutes.") from None
    if ran.returncode != 0:
        raise UsageError(f"The command that gives the password, {name}, ended with status {ran.returncode}.")
    lines = ran.stdout.decode("utf-8", "surrogateescape").splitlines()
    if not lines or not lines[0]:
        raise UsageError(f"The command that gives the password, {name}, printed nothing.")
    return lines[0]


def from_keyring(account: str) -> str | None:
    """Return what the system's keyring has for an account; None if it has nothing, or there is no keyring."""
    try:
        import keyring
        from keyring.errors import KeyringError
    except ImportError:
        return None
    try:
        return keyring.get_password(SERVICE, account)
    except (KeyringError, RuntimeError):
        return None


def to_keyring(account: str, secret: str) -> None:
    """Keep a password in the system's keyring.

    Raises
    ------
    PackageMissingError
        If what speaks to keyrings is not installed.
    UsageError
        If there is no keyring, it does not take it, or it would be a plain file.
    """
    try:
        import keyring
        from keyring.errors import KeyringError
    except ImportError as error:
        raise PackageMissingError("A keyring needs another package: pip install 'dunechest[office]'") from error
    other = "Name a command of your own that prints the password: --password-from COMMAND"
    if type(keyring.get_keyring()).__module__.startswith(_OPEN):
        raise UsageError(f"The keyring of this computer is a plain file, so nothing was kept in it. {other}")
    try:
        keyring.set_password(SERVICE, account, secret)
        kept = keyring.get_password(SERVICE, account)
    except (KeyringError, RuntimeError) as error:
        raise UsageError(
            f"The keyring of this computer does not take a password ({type(error).__name__}). {other}"
        ) from None
    if kept != secret:
        raise UsageError(f"The keyring of this computer did not keep the password. {other}")


def forget(account: str) -> bool:
    """Remove what the keyring has for an account; return whether it had anything."""
    try:
        import keyring
        from keyring.errors import KeyringError
    except ImportError:
        return False
    try:
        if keyring.get_password(SERVICE, account) is None:
            return False
        keyring.delete_password(SERVICE, account)
    except (KeyringError, RuntimeError):
        return False
    return True
