"""What each file of a bag should be, for half a million files in little memory."""

from __future__ import annotations

import struct
from collections.abc import Iterator, MutableMapping
from typing import NamedTuple

from dunechest.bag.manifest import Manifest
from dunechest.transfer.tasks import DigestOutcome


class Wanted(NamedTuple):
    """What a file should be: digests by algorithm that decide, its size if recorded, and a second digest."""

    digests: tuple[tuple[str, str], ...]
    size: int | None = None
    other: tuple[str, str] | None = None

    @property
    def algorithms(self) -> tuple[str, ...]:
        """The algorithms to compute."""
        return tuple([name for name, _ in self.digests])

    def fits(self, outcome: DigestOutcome) -> bool:
        """Whether all computed digests are the expected ones."""
        found = outcome.digests
        if len(found) == 1 == len(self.digests):  # nearly always
            return found[0].hex() == self.digests[0][1]
        return [d.hex() for d in found] == [digest for _, digest in self.digests]


#: Whether the row holds a file, its bytes, and its BLAKE3 digest.
_ROW = struct.Struct("<?Q32s")


class WantedFiles(MutableMapping[str, Wanted]):
    """What each file of a bag should be, by path.

    What a manifest and the record beside it both list takes a row of a table, with the
    manifest's own table for the path and the second digest; all else is held as it is.

    Parameters
    ----------
    manifest : Manifest, optional
        The payload manifest of a bag of our own. It must not change any more.
    """

    def __init__(self, manifest: Manifest | None = None) -> None:
        self._manifest = manifest
        self._rows = bytearray(_ROW.size * len(manifest.entries) if manifest is not None else 0)
        self._count = 0
        self._others: dict[str, Wanted] = {}

    def put(self, path: str, blake3: str, size: int) -> bool:
        """Enter what the record says of a file; False if this is not a file of the manifest, or no sound line."""
        if self._manifest is None or (row := self._manifest.entries.row(path)) is None:
            return False
        try:
            raw = bytes.fromhex(blake3)
            if len(raw) != 32 or raw.hex() != blake3:
                return False
            new = not self._rows[row * _ROW.size]
            _ROW.pack_into(self._rows, row * _ROW.size, True, size, raw)
        except (struct.error, ValueError):
            return False
        self._count += new
        self._others.pop(path, None)
        return True

    def _row(self, path: str) -> int | None:
        row = self._manifest.entries.row(path) if self._manifest is not None else None
        return row if row is not None and self._rows[row * _ROW.size] else None

    def __getitem__(self, path: str) -> Wanted:
        row = self._row(path)
        if row is None or self._manifest is None:
            return self._others[path]
        _, size, raw = _ROW.unpack_from(self._rows, row * _ROW.size)
        slow = (self._manifest.algorithm, self._manifest.entries[path])
        return Wanted((("blake3", raw.hex()),), size, slow)

    def __setitem__(self, path: str, wanted: Wanted) -> None:
        self._take_row(path)
        self._others[path] = wanted

    def __delitem__(self, path: str) -> None:
        if not self._take_row(path):
            del self._others[path]

    def _take_row(self, path: str) -> bool:
        row = self._row(path)
        if row is None:
            return False
        self._rows[row * _ROW.size] = 0
        self._count -= 1
        return True

    def __contains__(self, path: object) -> bool:
        return isinstance(path, str) and (self._row(path) is not None or path in self._others)

    def __len__(self) -> int:
        return self._count + len(self._others)

    def __iter__(self) -> Iterator[str]:
        if self._manifest is not None:
            yield from (path for path in self._manifest.entries if self._row(path) is not None)
        yield from self._others
