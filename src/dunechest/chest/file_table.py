"""Files that are proven to be on the drive, half a million of them in little memory.

A file of its own object, with two digests as text, takes some 600 bytes; a row of a `FileTable` takes a
fifth of that. Rows are turned into `Proven` values when they are asked for.
"""

from __future__ import annotations

import heapq
import struct
from collections.abc import Iterator, MutableMapping

import msgspec

from dunechest.chest.layout import LIBRARY_FILES
from dunechest.chest.records import FileRecord


class Proven(msgspec.Struct, frozen=True, gc=False):
    """A payload file that is on the drive: its record, and its SHA-512 (raw)."""

    record: FileRecord
    raw: bytes

    @property
    def sha512(self) -> str:
        """SHA-512 in hexadecimal."""
        return self.raw.hex()


#: Bytes, time in ns, mode, edition, number of the role; BLAKE3 and SHA-512 raw.
_ROW = struct.Struct("<QqIIB32s64s")
#: What stands before a path outside of ``library/`` among the keys; no path has such a character.
_OUTSIDE = "\0"


class FileTable(MutableMapping[str, Proven]):
    """Proven files by path below ``data/``.

    Parameters
    ----------
    base : FileTable, optional
        The edition before: what was `keep`-ed of it is in this one too, without being held twice.
        It must not change any more.
    """

    def __init__(self, base: FileTable | None = None) -> None:
        self._base = base
        self._kept = bytearray(base._count_rows if base is not None else 0)
        self._kept_count = 0
        self._there: set[str] = set()
        self._rows: dict[str, int] = {}
        self._data = bytearray()
        self._roles: list[str] = []
        #: By number of the row, what a row cannot hold: numbers and digests that only a damaged list has.
        self._odd: dict[int, Proven] = {}
        self._frozen = False

    def frozen(self) -> FileTable:
        """Return the table itself, which does not change any more: every later change is a `TypeError`."""
        self._frozen = True
        return self

    def _refuse_if_frozen(self) -> None:
        if self._frozen:
            raise TypeError("this table of files belongs to a plan and cannot be changed")

    def keep(self, path: str) -> None:
        """Take over a file of the edition before as it is; it is on the drive and is not written."""
        self._refuse_if_frozen()
        assert self._base is not None
        row = self._base._rows[_key(path)]
        if not self._kept[row]:
            self._kept[row] = 1
            self._kept_count += 1

    def put_there(self, path: str, proven: Proven) -> None:
        """Take in a file whose bytes are on the drive already, under this name or another."""
        self[path] = proven
        self._there.add(path)

    def there(self, path: str) -> bool:
        """Whether a file's bytes were on the drive before, and are not written."""
        return path in self._there or self._kept_row(_key(path)) is not None

    @property
    def count_there(self) -> int:
        """How many files were on the drive before."""
        return len(self._there) + self._kept_count

    @property
    def same_as_before(self) -> bool:
        """Whether this is the edition before, file for file."""
        return self._base is not None and not self._rows and self._kept_count == len(self._base._rows)

    def own(self) -> Iterator[str]:
        """Yield the paths of what was not kept just so."""
        return map(_path, self._rows)

    @property
    def bytes(self) -> int:
        """Sum of the files' sizes."""
        return sum(map(self.size, self))

    def size(self, path: str) -> int:
        """Bytes of one file."""
        key = _key(path)
        if (row := self._kept_row(key)) is not None:
            assert self._base is not None
            return self._base._size(row)
        return self._size(self._rows[key])

    def by_path(self) -> Iterator[Proven]:
        """Yield all files, sorted by path."""
        for path in self.paths():
            yield self[path]

    def records(self) -> Iterator[FileRecord]:
        """Yield the record of all files, sorted by path."""
        for path in self.paths():
            yield self[path].record

    def paths(self) -> Iterator[str]:
        """Yield all paths, sorted."""
        inside: list[str] = []
        outside: list[str] = []
        for key in self._keys():
            (outside if key.startswith(_OUTSIDE) else inside).append(key)
        inside.sort()
        outside.sort()
        return heapq.merge(map(_path, inside), map(_path, outside)) if outside else map(_path, inside)

    @property
    def _count_rows(self) -> int:
        return len(self._data) // _ROW.size

    def _keys(self) -> Iterator[str]:
        if self._base is not None:
            for key, row in self._base._rows.items():
                if self._kept[row]:
                    yield key
        yield from self._rows

    def _kept_row(self, key: str) -> int | None:
        if self._base is None or (row := self._base._rows.get(key)) is None or not self._kept[row]:
            return None
        return row

    def _size(self, row: int) -> int:
        odd = self._odd.get(row)
        if odd is not None:
            return odd.record.size
        size: int = _ROW.unpack_from(self._data, row * _ROW.size)[0]
        return size

    def _at(self, path: str, row: int) -> Proven:
        odd = self._odd.get(row)
        if odd is not None:
            return odd
        size, mtime_ns, mode, edition, role, fast, slow = _ROW.unpack_from(self._data, row * _ROW.size)
        return Proven(FileRecord(path, size, mtime_ns, mode, fast.hex(), self._roles[role], edition), slow)

    def __getitem__(self, path: str) -> Proven:
        key = _key(path)
        if (row := self._kept_row(key)) is not None:
            assert self._base is not None
            return self._base._at(path, row)
        return self._at(path, self._rows[key])

    def __setitem__(self, path: str, proven: Proven) -> None:
        self.put(path, proven)

    def put(self, path: str, proven: Proven, key: str = "") -> None:
        """Take in a file; `key` is its path in ``library/``, where such a text exists already and can be shared."""
        self._refuse_if_frozen()
        self._there.discard(path)
        key = key or _key(path)
        if (kept := self._kept_row(key)) is not None:
            self._kept[kept] = 0
            self._kept_count -= 1
        row = self._count_rows
        record = proven.record
        try:
            if record.role not in self._roles and len(self._roles) < 200:
                self._roles.append(record.role)
            fast = bytes.fromhex(record.blake3)
            if (len(fast), len(proven.raw), fast.hex(), record.path) != (32, 64, record.blake3, path):
                raise ValueError
            role = self._roles.index(record.role)
            self._data += _ROW.pack(record.size, record.mtime_ns, record.mode, record.edition, role, fast, proven.raw)
        except (struct.error, ValueError):
            self._odd[row] = proven
            self._data += bytes(_ROW.size)
        self._rows[key] = row

    def __delitem__(self, path: str) -> None:
        self._refuse_if_frozen()
        key = _key(path)
        self._there.discard(path)
        if (kept := self._kept_row(key)) is not None:
            self._kept[kept] = 0
            self._kept_count -= 1
        else:
            del self._rows[key]

    def __contains__(self, path: object) -> bool:
        if not isinstance(path, str):
            return False
        key = _key(path)
        return key in self._rows or self._kept_row(key) is not None

    def __len__(self) -> int:
        return len(self._rows) + self._kept_count

    def __iter__(self) -> Iterator[str]:
        return map(_path, self._keys())


class Marks:
    """Marks at the files of a table, a byte each.

    Parameters
    ----------
    table : FileTable
        One without an edition before it.
    """

    def __init__(self, table: FileTable) -> None:
        self._rows = table._rows
        self._marked = bytearray(table._count_rows)

    def add(self, path: str) -> None:
        """Mark a file, if the table has it."""
        row = self._rows.get(_key(path))
        if row is not None:
            self._marked[row] = 1

    def others(self) -> Iterator[str]:
        """Yield the paths of what was not marked."""
        return (_path(key) for key, row in self._rows.items() if not self._marked[row])


def _key(path: str) -> str:
    return path[len(LIBRARY_FILES) :] if path.startswith(LIBRARY_FILES) else _OUTSIDE + path


def _path(key: str) -> str:
    return key[1:] if key.startswith(_OUTSIDE) else LIBRARY_FILES + key
