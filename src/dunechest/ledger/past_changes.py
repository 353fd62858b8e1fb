"""Deeds: what was done to this computer, step by step, so that it can be undone.

A change is a file of JSON lines in ``deeds/`` of the state folder: a head, a line for each step written *before*
the step is taken, and a last line when it is done. A step says enough to be undone whether it was
taken or not. Files that were replaced are kept beside, in ``past_changes/NUMBER.kept/``.
"""

from __future__ import annotations

import os
import re
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import ClassVar

import msgspec

from dunechest import clock
from dunechest.errors import CutOffError
from dunechest.ledger.folder import state_folder
from dunechest.names import WireName, from_wire, shown, to_wire
from dunechest.regex import late
from dunechest.transfer import medium, safe
from dunechest.transfer.owner import hand_over, make_own

FOLDER = "deeds"
#: How the name of whatever a restore works in begins or ends.
WORKING = (".dune-restore-", ".repointing")
_NAME = late(r"(\d{6})\.jsonl")
_MOST = 1 << 31


class Head(msgspec.Struct, frozen=True, tag="head"):
    """The head of a change: the job, the library, the place, when (seconds since 1970), and the process.

    `command` is the same for all changes of one command, which are undone together; `id` is that of a move, if it is one.
    `state` is the state that a restore brings to the place, if the library never had it there before.
    """

    job: str
    about: str
    place: WireName
    when: float
    pid: int
    command: str = ""
    id: str = ""
    state: str = ""


class Aside(msgspec.Struct, frozen=True, tag="aside"):
    """Something existing got another name in the same folder, or on the same drive."""

    old: WireName
    new: WireName


class Working(msgspec.Struct, frozen=True, tag="working"):
    """A folder or file to work in was made, under a name that only a restore gives; it goes when that is done."""

    path: WireName


class Tree(msgspec.Struct, frozen=True, tag="tree"):
    """A whole folder was put in its place; `listing` is the file beside the change that lists what is in it.

    A rename keeps its device and inode (0 if not known), so that it is told from whatever else comes to be there.
    """

    path: WireName
    listing: str
    device: int = 0
    inode: int = 0


class WasEmpty(msgspec.Struct, frozen=True, tag="was-empty"):
    """An empty folder went, because a whole one took its place; its mode."""

    path: WireName
    mode: int


class Made(msgspec.Struct, frozen=True, tag="made"):
    """A file was made: bytes and time (ns), BLAKE3 (hexadecimal), device and inode where they are known."""

    path: WireName
    size: int
    mtime_ns: int
    blake3: str = ""
    device: int = 0
    inode: int = 0


class NotMade(msgspec.Struct, frozen=True, tag="not-made"):
    """A file that was to be made was not: something else was there first, and is not this change's."""

    path: WireName


class MadeFolder(msgspec.Struct, frozen=True, tag="folder"):
    """A folder was made."""

    path: WireName


class MadeLink(msgspec.Struct, frozen=True, tag="link"):
    """A symbolic link was made."""

    path: WireName
    target: WireName


class Rewritten(msgspec.Struct, frozen=True, tag="rewritten"):
    """A file got other bytes: where the old ones are kept, their mode and time (ns), and the new ones' BLAKE3.

    `why` is ``references``, ``setting``, ``joined`` or ``replaced``.
    """

    path: WireName
    kept: str
    mode: int
    mtime_ns: int
    after: str
    why: str


class Swapped(msgspec.Struct, frozen=True, tag="swapped"):
    """A folder got another name, and in the same moment a link to `target` took its place."""

    old: WireName
    new: WireName
    target: WireName


class ChangedLink(msgspec.Struct, frozen=True, tag="changed-link"):
    """A link to a folder led to `before` and leads to `after`; an empty one says that there was or is none."""

    path: WireName
    before: WireName
    after: WireName


class Removing(msgspec.Struct, frozen=True, tag="removing"):
    """From here on a folder is deleted, as far as it is as `listing` lists it: that is finished, and never undone.

    With `trash` it goes to the system's trash as a whole. What is not as it was listed goes back to `home`, if there is
    one. With `rest` the folder itself and all that is not listed stays where it is. `how` says how to get it again.
    """

    path: WireName
    listing: str
    home: WireName = ""
    trash: bool = False
    rest: bool = False
    how: str = ""


class Closed(msgspec.Struct, frozen=True, tag="closed"):
    """How a change ended: ``done`` or ``undone``."""

    how: str


Step = Aside | Working | WasEmpty | Tree | Made | MadeFolder | MadeLink | Rewritten | Swapped | ChangedLink | Removing
_Line = Head | Step | NotMade | Closed


class Listed(msgspec.Struct, frozen=True, array_like=True):
    """A line of a tree's listing: path, and for a file bytes and time (ns); -1 for a folder, -2 for a link."""

    path: WireName
    size: int
    mtime_ns: int


class PastChange(msgspec.Struct, frozen=True):
    """A change of this computer, as it was written down."""

    _told: ClassVar[tuple[str, ...]] = ("name", "job", "path", "changed_at")

    number: int
    head: Head
    steps: tuple[Step, ...]
    how: str

    @property
    def name(self) -> str:
        """What it changed."""
        return self.head.about

    @property
    def job(self) -> str:
        """Which command it was."""
        return self.head.job

    @property
    def path(self) -> str:
        """Where."""
        return from_wire(self.head.place)

    @property
    def changed_at(self) -> float:
        """When."""
        return self.head.when

    @property
    def finished(self) -> bool:
        """Whether it came to its end."""
        return bool(self.how)


def _folder() -> Path:
    return state_folder() / FOLDER


def kept_folder(number: int) -> Path:
    """Return where a change keeps what it replaced."""
    return _folder() / f"{number:06d}.kept"


def listing_of(number: int, name: str) -> Path:
    """Return the file that lists a tree."""
    return _folder() / Path(name).name


class OpenChange:
    """A change that is being done."""

    def __init__(self, number: int, fd: int) -> None:
        self.number = number
        self._fd = fd
        self._kept = 0
        #: Whether anything was done that could be undone.
        self.changes = False
        #: What was made or written, as far as it was written down.
        self.places: list[Path] = []

    def will(self, *steps: Step) -> None:
        """Write down steps that are about to be taken, and see that this is on the medium."""
        if steps:
            self.changes = self.changes or not all(isinstance(step, Working) for step in steps)
            made = (step for step in steps if isinstance(step, Tree | Made | MadeFolder | MadeLink | Rewritten))
            self.places += [Path(from_wire(step.path)) for step in made]
            safe.write_all(self._fd, b"".join(msgspec.json.encode(step) + b"\n" for step in steps))
            medium.flush_file(self._fd)

    def will_not(self, path: str | os.PathLike[str]) -> None:
        """Write down that a file which was to be made was not."""
        safe.write_all(self._fd, msgspec.json.encode(NotMade(to_wire(os.fspath(path)))) + b"\n")
        medium.flush_file(self._fd)

    def listing(self, lines: Iterable[Listed]) -> str:
        """Write down what is in a tree; return the name of the list."""
        name = f"{self.number:06d}.tree-{self._kept}"
        self._kept += 1
        safe.write_file(_folder() / name, b"".join(msgspec.json.encode(line) + b"\n" for line in lines), mode=0o600)
        return name

    def keep(self, path: Path) -> str:
        """Keep a copy of a file that is about to get other bytes; return the copy's name."""
        folder = kept_folder(self.number)
        folder.mkdir(mode=0o700, exist_ok=True)
        name = f"{self._kept:06d}"
        self._kept += 1
        target = os.open(folder / name, os.O_WRONLY | os.O_CREAT | os.O_EXCL | getattr(os, "O_BINARY", 0), 0o600)
        try:
            source = safe.open_regular(path)
            try:
                while piece := os.read(source, 1 << 20):
                    safe.write_all(target, piece)
            finally:
                os.close(source)
            medium.flush_file(target)
        finally:
            os.close(target)
        medium.flush_folder(str(folder))
        return name

    def close(self, how: str = "done") -> None:
        """Write down how it ended."""
        try:
            safe.write_all(self._fd, msgspec.json.encode(Closed(how)) + b"\n")
            medium.flush_file(self._fd)
        finally:
            os.close(self._fd)
            hand_over(_folder())


def begin(job: str, about: str, place: WireName, command: str = "", *, id: str = "", state: str = "") -> OpenChange:
    """Begin a past_change.

    Raises
    ------
    CutOffError
        If it cannot be written down: then nothing is done.
    """
    folder = _folder()
    try:
        make_own(folder, 0o700)
        number = max((int(name[:6]) for name in os.listdir(folder) if re.match(r"\d{6}\.", name)), default=0)
        while True:
            number += 1
            try:
                flags = os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_APPEND | getattr(os, "O_BINARY", 0)
                fd = os.open(folder / f"{number:06d}.jsonl", flags, 0o600)
                break
            except FileExistsError:  # another process took this number just now
                continue
        past_change = OpenChange(number, fd)
        head = Head(job, about, place, clock.now(), os.getpid(), command, id, state)
        safe.write_all(fd, msgspec.json.encode(head) + b"\n")
        medium.flush_file(fd)
        medium.flush_folder(str(folder))
    except OSError as error:
        raise CutOffError(
            f"What is to be done cannot be written down in {shown(str(folder))} ({error.strerror}), and without "
            "that it could not be undone. Nothing was changed."
        ) from error
    return past_change


def _open_again(number: int) -> int:
    return os.open(_folder() / f"{number:06d}.jsonl", os.O_WRONLY | os.O_APPEND | getattr(os, "O_BINARY", 0))


def add(number: int, step: Step) -> None:
    """Write down one more step of a change that was read from its file."""
    fd = _open_again(number)
    try:
        OpenChange(number, fd).will(step)
    finally:
        os.close(fd)


def close(number: int, how: str) -> None:
    """Write down the end of a change that was read from its file."""
    OpenChange(number, _open_again(number)).close(how)


def forget(number: int) -> None:
    """Remove what a change kept, once it is undone and nothing can be wanted of it."""
    folder = _folder()
    for path in (*folder.glob(f"{number:06d}.tree-*"), *kept_folder(number).glob("*")):
        path.unlink(missing_ok=True)
    if kept_folder(number).is_dir():
        kept_folder(number).rmdir()


def past_changes() -> Iterator[PastChange]:
    """Yield all changes, the latest first; what cannot be read is passed over."""
    try:
        names = sorted((name for name in os.listdir(_folder()) if _NAME.fullmatch(name)), reverse=True)
    except OSError:
        return
    decoder = msgspec.json.Decoder(_Line)
    for name in names:
        head, how = None, ""
        steps: list[Step] = []
        try:
            content = safe.read_bounded(_folder() / name, _MOST)
        except (OSError, ValueError):
            continue
        for line in content.splitlines():
            try:
                past_change = decoder.decode(line)
            except (msgspec.MsgspecError, UnicodeDecodeError):
                break  # the last line, cut off by a crash: that step was not taken
            if isinstance(past_change, Head):
                head = past_change
            elif isinstance(past_change, Closed):
                how = past_change.how
            elif isinstance(past_change, NotMade):
                steps = [s for s in steps if not (isinstance(s, Made) and s.path == past_change.path)]
            else:
                steps.append(past_change)
        if head is not None:
            yield PastChange(int(name[:6]), head, tuple(steps), how)


def tree_lines(past_change: PastChange, name: str) -> dict[str, Listed]:
    """Return what a tree held when it was put in its place, by path.

    Raises
    ------
    OSError, ValueError
        If the list cannot be read.
    """
    return listed_in(past_change.number, name)


def listed_in(number: int, name: str) -> dict[str, Listed]:
    """Return what a list beside a change holds, by path; `number` is the change's.

    Raises
    ------
    OSError, ValueError
        If the list cannot be read.
    """
    content = safe.read_bounded(listing_of(number, name), _MOST)
    lines = (msgspec.json.decode(line, type=Listed) for line in content.splitlines())
    return {from_wire(line.path): line for line in lines}
