"""The fingerprint of a library: one digest of the names, sizes, times and modes it has, of its kind, and of the choice.

The record of an edition holds it. Where it is the same, nothing can differ by anything that is looked at without reading.
"""

from __future__ import annotations

from collections.abc import Iterable

import msgspec
from blake3 import blake3

from dunechest.jobs.study.selection import Choice
from dunechest.library.kinds.schema import Kind


def fingerprint(kind: Kind, choice: Choice, lines: Iterable[str]) -> str:
    """Return the fingerprint of a library, in hexadecimal.

    The texts, one a folder, come in whatever order a disk lists them, so their digests are added up.
    """
    total = int.from_bytes(blake3(msgspec.json.encode((kind, choice))).digest())
    for line in lines:
        total += int.from_bytes(blake3(line.encode("utf-8", "surrogateescape")).digest())
    return f"{total % (1 << 256):064x}"
