"""What the workers is asked to do, and what it answers. These values cross a pipe as MessagePack."""

from __future__ import annotations

from collections.abc import Callable
from typing import Literal

import msgspec

#: Files up to this many bytes are read whole, and batched: written, flushed and read back together.
WHOLE = 4 << 20
#: Of those, files from this many bytes on are worth going around the page cache for.
AROUND = 64 << 10

#: ``closed`` is what the system says of a file that this user may not read: nothing is known of its bytes.
State = Literal["ok", "vanished", "unreadable", "closed", "changing", "not-intact", "cut-off"]


class CopyTask(msgspec.Struct, frozen=True, array_like=True, gc=False):
    """Copy one file: read once, digest, write to a new name, flush, read back, compare.

    `source` and `target` are full paths as bytes; `size` and `mtime_ns` are what
    the walk saw; `mode` and `mtime_ns` are given to the target; with `expect`
    (a BLAKE3 digest) a source with other bytes is not copied; `data` says where its data lies if it was recorded to have
    holes (`dunechest.transfer.holes`), and its drive may have none.
    """

    source: bytes
    target: bytes
    size: int
    mtime_ns: int
    mode: int
    expect: bytes | None = None
    data: tuple[int, ...] | None = None


class CopyOutcome(msgspec.Struct, frozen=True, array_like=True, gc=False):
    """What came of one `CopyTask`; sizes in bytes, the digests raw, `why` in words if not ``ok``.

    `data` says where the source's data lies, if it has holes.
    """

    state: State
    size: int = 0
    mtime_ns: int = 0
    mode: int = 0
    blake3: bytes = b""
    sha512: bytes = b""
    why: str = ""
    again: int = 0
    data: tuple[int, ...] | None = None


class DigestTask(msgspec.Struct, frozen=True, array_like=True, gc=False):
    """Read one file from the medium and digest it; `size` is what is expected, for the grouping."""

    path: bytes
    size: int
    algorithms: tuple[str, ...] = ("blake3",)


class DigestOutcome(msgspec.Struct, frozen=True, array_like=True, gc=False):
    """What came of one `DigestTask`: `digests` raw and in the order of its `algorithms`."""

    state: State
    size: int = 0
    digests: tuple[bytes, ...] = ()
    why: str = ""


class CopyJob(msgspec.Struct, frozen=True, array_like=True, tag=True):
    """A batch of files to copy.

    `sha512` asks for the second digest; `whole_sync` allows one flush of the
    whole target filesystem for the batch instead of one a file. With `later` small
    files are only written: whoever asks flushes them all, and has them read back.
    """

    tasks: list[CopyTask]
    sha512: bool
    whole_sync: bool
    later: bool = False


class DigestJob(msgspec.Struct, frozen=True, array_like=True, tag=True):
    """A batch of files to digest."""

    tasks: list[DigestTask]


class LookJob(msgspec.Struct, frozen=True, array_like=True, tag=True):
    """Folders of a library to be looked over, with all below them; see `dunechest.transfer.fingerprints`.

    `tasks` are the folders, relative to `root`, as the system has them.
    """

    root: bytes
    tasks: list[bytes]


class SizesJob(msgspec.Struct, frozen=True, array_like=True, tag=True):
    """Folders whose regular files, with all below them, are to be counted and told by a number.

    `tasks` are the folders, relative to `root`, as the system has them; see `dunechest.transfer.totals`.
    """

    root: bytes
    tasks: list[bytes]


Job = CopyJob | DigestJob | LookJob | SizesJob


class Told(msgspec.Struct, frozen=True, array_like=True, tag=True):
    """Progress from a worker: so many more bytes."""

    bytes: int


class Done(msgspec.Struct, frozen=True, array_like=True, tag=True):
    """The answer to the job of that number: outcomes, one a task, in the order of the tasks."""

    number: int
    copies: list[CopyOutcome] | None = None
    digests: list[DigestOutcome] | None = None
    #: What the digests of folders add up to (little-endian); none if one could not be looked over.
    total: bytes | None = None
    #: Of a `SizesJob`: how many files, and their bytes.
    files: int = 0
    size: int = 0


class Numbered(msgspec.Struct, frozen=True, array_like=True):
    """A job on its way to a worker."""

    number: int
    job: CopyJob | DigestJob | LookJob | SizesJob


Tell = Callable[[int], None]
