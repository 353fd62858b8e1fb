"""Places where a file acts by merely being there, or where secrets are kept: start-up, keys, passwords, programs."""

from __future__ import annotations

from pathlib import PurePosixPath

#: Folders by name, wherever they are in a home; compared without case.
_FOLDERS = {
    "autostart": "programs in it are started when you log in",
    "autostart-scripts": "programs in it are started when you log in",
    "startup": "programs in it are started when you log in",
    "launchagents": "programs in it are started when you log in",
    "launchdaemons": "programs in it are started by the system",
    "loginitems": "programs in it are started when you log in",
    "systemd": "services in it are started by the system",
    "environment.d": "it is read when you log in",
    "profile.d": "it is read when you log in",
    "cron.d": "commands in it are run by the clock",
    "bin": "commands in it are run by their name",
    ".bin": "commands in it are run by their name",
    "sbin": "commands in it are run by their name",
    "keychains": "keys and passwords are kept in it",
    "keyrings": "keys and passwords are kept in it",
    "secrets": "keys and passwords are kept in it",
    "credentials": "keys and passwords are kept in it",
    ".ssh": "keys are kept in it",
    ".gnupg": "keys are kept in it",
    ".pki": "keys are kept in it",
    ".aws": "keys are kept in it",
    ".kube": "keys are kept in it",
    ".docker": "keys are kept in it",
    ".password-store": "passwords are kept in it",
    "applications": "programs are listed in it",
    "services": "programs are listed in it",
    "start menu": "programs in it are started by a click",
}
#: First folders of a home that systems keep for settings and data of applications.
_TOPS = {"library", "appdata", ".config", ".local", ".cache", ".mozilla"}
#: Names at the top of a home that systems and shells read.
_READ_AT_LOGIN = frozenset(
    {
        ".profile", ".bashrc", ".bash_profile", ".bash_login", ".bash_logout", ".zshrc", ".zshenv", ".zprofile", ".zlogin",
        ".login", ".cshrc", ".xprofile", ".xinitrc", ".xsession", ".xsessionrc", ".pam_environment", ".forward",
        ".gitconfig", ".vimrc", ".emacs", ".inputrc", ".netrc", ".rhosts", ".npmrc", ".pypirc",
    }
)  # fmt: skip
#: Endings of files that hold keys.
_KEYS = (".pem", ".key", ".p12", ".pfx", ".kdbx", ".keystore", ".jks", ".ppk", ".asc.key")
_KEY_NAMES = ("id_rsa", "id_ed25519", "id_ecdsa", "id_dsa", ".netrc", ".pgpass", ".htpasswd")


def why_sensitive(relative: str, *, standard: str = "home", file: bool = False) -> str:
    """Say why nothing a stranger names goes to a place of a home; empty if it may.

    Parameters
    ----------
    relative : str
        The place relative to a standard folder, with ``/`` between its pieces.
    standard : str
        Name of that standard folder.
    file : bool
        Whether it is the place of a single file, rather than of a folder.

    >>> why_sensitive("Pictures/Dunes"), why_sensitive(".config/AutoStart/x")
    ('', 'programs in it are started when you log in')
    """
    pieces = [piece.casefold() for piece in PurePosixPath(relative).parts]
    if not pieces:
        return ""
    for piece in pieces:
        if piece in _FOLDERS:
            return _FOLDERS[piece]
    if standard == "home" and pieces[0] in _TOPS:
        return "applications and the system keep their settings in it"
    if standard == "configuration":
        return "settings that applications act on are kept in it"
    if standard == "home" and pieces[0] in _READ_AT_LOGIN:
        return "it is read when you log in or start a program"
    if file and standard in ("home", "data") and len(pieces) == 1 and pieces[0].startswith("."):
        return "such files are read when you log in or start a program"
    return ""


def is_secret(path: str) -> bool:
    """Whether a file is a key or a list of passwords, by where it lies or its name.

    >>> is_secret("/home/tern/keys/door.pem"), is_secret("/home/tern/.ssh/known"), is_secret("/home/tern/a.jpg")
    (True, True, False)
    """
    pieces = [piece.casefold() for piece in PurePosixPath(path.replace("\\", "/")).parts]
    if not pieces:
        return False
    if any("keys" in _FOLDERS.get(piece, "") or "passwords" in _FOLDERS.get(piece, "") for piece in pieces[:-1]):
        return True
    return pieces[-1].endswith(_KEYS) or pieces[-1] in _KEY_NAMES
