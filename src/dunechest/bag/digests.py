"""Digests by path, of half a million files in little memory."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, MutableMapping


class Digests(MutableMapping[str, str]):
    """What a manifest says: digests (lower-case hexadecimal) by path.

    They are held raw and one after the other, since each would take three times the room as a text of its own.

    Parameters
    ----------
    digits : int
        Hexadecimal digits of a digest.
    """

    def __init__(self, digits: int) -> None:
        self._width = digits // 2
        self._rows: dict[str, int] = {}
        self._raw = bytearray()

    def row(self, path: str) -> int | None:
        """Return the number of a path's row, from 0 without gaps where nothing was taken out; None if it has none."""
        return self._rows.get(path)

    def rows(self) -> Iterable[tuple[str, int]]:
        """Return all paths and the numbers of their rows."""
        return self._rows.items()

    def __getitem__(self, path: str) -> str:
        at = self._rows[path] * self._width
        return self._raw[at : at + self._width].hex()

    def __setitem__(self, path: str, digest: str) -> None:
        raw = bytes.fromhex(digest)
        if len(raw) != self._width:
            raise ValueError(f"a digest of {len(raw)} bytes instead of {self._width}")
        row = self._rows.setdefault(path, len(self._raw) // self._width)
        at = row * self._width
        self._raw[at : at + self._width] = raw

    def __delitem__(self, path: str) -> None:
        del self._rows[path]

    def __contains__(self, path: object) -> bool:
        return path in self._rows

    def __len__(self) -> int:
        return len(self._rows)

    def __iter__(self) -> Iterator[str]:
        return iter(self._rows)
