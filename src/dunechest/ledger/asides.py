"""Lists of what originals held when they were set aside: a file of JSON lines in ``asides/`` of the state folder.

Each line is a file: its path, bytes, time (ns) and the BLAKE3 digest with which its copy was proven; -1 stands for the bytes
of a folder and -2 for those of a link. The last line is the digest of those before it: a list that was changed is not
believed.
"""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

import msgspec
from blake3 import blake3

from dunechest.errors import CutOffError
from dunechest.ledger.folder import state_folder
from dunechest.names import WireName, from_wire, shown
from dunechest.transfer import safe
from dunechest.transfer.owner import hand_over, make_own

FOLDER = "asides"
_MOST = 1 << 31


class AsideFile(msgspec.Struct, frozen=True, array_like=True):
    """A file, folder or link of an original: path, bytes, time (ns), the digest of its bytes (hexadecimal), and its mode.

    The mode is -1 where it is not known; `updated` says that the copy differs, because its references were updated.
    """

    path: WireName
    size: int
    mtime_ns: int
    blake3: str = ""
    mode: int = -1
    updated: bool = False


def _place(name: str) -> Path:
    return state_folder() / FOLDER / f"{Path(name).name}.jsonl"


def write_aside(name: str, files: Iterable[AsideFile]) -> None:
    """Write down what an original holds.

    Raises
    ------
    CutOffError
        If it cannot be written: then nothing is set aside.
    """
    content = b"".join(msgspec.json.encode(file) + b"\n" for file in files)
    content += msgspec.json.encode(blake3(content).hexdigest()) + b"\n"
    place = _place(name)
    try:
        make_own(place.parent, 0o700)
        safe.write_file(place, content, mode=0o600)
        hand_over(place.parent)
    except OSError as error:
        raise CutOffError(
            f"What is set aside cannot be written down in {shown(str(place.parent))} ({error.strerror}). Nothing was changed."
        ) from error


def read_aside(name: str) -> dict[str, AsideFile] | None:
    """Return what an original held, by path; None if that is not known for certain."""
    try:
        content = safe.read_bounded(_place(name), _MOST)
        body, last = (
            content[: content.rstrip(b"\n").rfind(b"\n") + 1],
            content[content.rstrip(b"\n").rfind(b"\n") + 1 :],
        )
        if msgspec.json.decode(last, type=str) != blake3(body).hexdigest():
            return None
        files = [msgspec.json.decode(line, type=AsideFile) for line in body.splitlines()]
    except (OSError, ValueError, msgspec.MsgspecError):
        return None
    return {from_wire(file.path): file for file in files}


def forget_aside(name: str) -> None:
    """Remove the list of an original that is gone."""
    try:
        _place(name).unlink(missing_ok=True)
    except OSError:
        return
