"""Files that are proven to be on the drive, half a million of them in little memory.

A file of its own object, with two digests as text, takes some 600 bytes; a row of a `FileTable` takes a
fifth of that. Rows are turned into `Proven` values when they are asked for.
"""

from __future__ import annotations

import heapq
import struct
from collections.abc import Iterable, Iterator, MutableMapping

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
_SIZE = struct.Struct("<Q")
#: Bytes, time in ns, and the first eight bytes of the BLAKE3 digest.
Brief = tuple[int, int, bytes]
_BRIEF = struct.Struct("<Qq9x8s")
#: What stands before a path outside of ``library/`` among the keys; no path has such a character.
_OUTSIDE = "\0"


def beginning_of(blake3: str) -> bytes:
    """Return the first eight bytes of a digest (hexadecimal); none if it is no digest."""
    try:
        return bytes.fromhex(blake3[:16])
    except ValueError:
        return b""


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

    @property
    def change_count(self) -> int:
        """How many files came, and went, since the edition before."""
        before = len(self._base._rows) if self._base is not None else 0
        return len(self._rows) + before - self._kept_count

    def own(self) -> Iterator[str]:
        """Yield the paths of what was not kept unchanged."""
        return map(_path, self._rows)

    @property
    def bytes(self) -> int:
        """Sum of the files' sizes."""
        kept = (row for row, mark in enumerate(self._kept) if mark)
        return self._sum(self._rows.values()) + (self._base._sum(kept) if self._base is not None else 0)

    def _sum(self, rows: Iterable[int]) -> int:
        if self._odd:
            return sum(map(self._size, rows))
        size_at, data, step = _SIZE.unpack_from, self._data, _ROW.size
        return sum([size_at(data, row * step)[0] for row in rows])

    def facts(self, path: str) -> tuple[int, int, int, str] | None:
        """Return bytes, time, mode and role of a file; None if it is not here."""
        key = _key(path)
        if (row := self._kept_row(key)) is not None:
            assert self._base is not None
            return self._base._facts(row)
        row = self._rows.get(key)
        return None if row is None else self._facts(row)

    def _facts(self, row: int) -> tuple[int, int, int, str]:
        if self._odd and row in self._odd:
            record = self._odd[row].record
            return record.size, record.mtime_ns, record.mode, record.role
        size, mtime_ns, mode, _, role, _, _ = _ROW.unpack_from(self._data, row * _ROW.size)
        return size, mtime_ns, mode, self._roles[role]

    def sizes_by_folder(self) -> Iterator[tuple[str, list[tuple[str, int]]]]:
        """Yield the path below ``data/`` of each folder, with name and bytes of each file in it.

        Only of a table without an edition before it.
        """
        assert self._base is None
        size_at, data, step, odd = _SIZE.unpack_from, self._data, _ROW.size, self._odd
        inside: dict[str, list[tuple[str, int]]] = {}
        outside: dict[str, list[tuple[str, int]]] = {}
        for key, row in self._rows.items():
            size = size_at(data, row * step)[0] if row not in odd else self._size(row)
            folders = inside
            if key[:1] == _OUTSIDE:
                folders, key = outside, key[1:]
            above, _, name = key.rpartition("/")
            folders.setdefault(above, []).append((name, size))
        for above, files in inside.items():
            yield LIBRARY_FILES + above if above else LIBRARY_FILES[:-1], files
        yield from outside.items()

    def lacking(self, there: Iterable[tuple[str, int]]) -> set[str]:
        """Return the paths of the files that are not among those that are there, given by path and bytes.

        Only of a table without an edition before it.
        """
        assert self._base is None
        rows, size_of, found = self._rows, self._size, bytearray(self._count_rows)
        if not self._odd:
            size_at, data, step = _SIZE.unpack_from, self._data, _ROW.size
            size_of = lambda row: size_at(data, row * step)[0]  # noqa: E731 - asked half a million times
        for path, size in there:
            row = rows.get(_key(path))
            if row is not None and size_of(row) == size:
                found[row] = 1
        return {_path(key) for key, row in rows.items() if not found[row]}

    def size(self, path: str) -> int:
        """Bytes of one file."""
        key = _key(path)
        if (row := self._kept_row(key)) is not None:
            assert self._base is not None
            return self._base._size(row)
        return self._size(self._rows[key])

    def by_path(self) -> Iterator[Proven]:
        """Yield all files, sorted by path."""
        for path, table, row in self._sorted():
            yield table._at(path, row)

    def records(self) -> Iterator[FileRecord]:
        """Yield the record of all files, sorted by path."""
        return self._records(self._sorted())

    def brief(self) -> Iterator[tuple[str, Brief]]:
        """Yield path, and bytes, time (ns) and the beginning of the BLAKE3 digest, of all files, sorted by path."""
        unpack, step = _BRIEF.unpack_from, _ROW.size
        for path, table, row in self._sorted():
            if table._odd:
                yield path, table._brief(row)
            else:
                yield path, unpack(table._data, row * step)

    def brief_come(self) -> Iterator[tuple[str, Brief]]:
        """Yield, as `brief` does, what was not kept unchanged, in no order."""
        return ((_path(key), self._brief(row)) for key, row in self._rows.items())

    def brief_gone(self) -> Iterator[tuple[str, Brief]]:
        """Yield, as `brief` does, what the edition before had that was not kept unchanged, in no order."""
        if (base := self._base) is not None:
            kept = self._kept
            yield from ((_path(key), base._brief(row)) for key, row in base._rows.items() if not kept[row])

    def _brief(self, row: int) -> Brief:
        if row in self._odd:
            record = self._odd[row].record
            return record.size, record.mtime_ns, beginning_of(record.blake3)
        brief: Brief = _BRIEF.unpack_from(self._data, row * _ROW.size)
        return brief

    def by_role(self) -> dict[str, tuple[int, int]]:
        """Return by role how many files have it, and their bytes."""
        found: dict[str, tuple[int, int]] = {}
        kept = (row for row, mark in enumerate(self._kept) if mark)
        for table, rows in ((self, self._rows.values()), (self._base or self, kept)):
            for row in rows:
                size, _, _, role = table._facts(row)
                count, total = found.get(role, (0, 0))
                found[role] = count + 1, total + size
        return found

    def own_records(self) -> Iterator[FileRecord]:
        """Yield the record of what was not kept unchanged, sorted by path."""
        return self._records((path, self, self._rows[_key(path)]) for path in sorted(self.own()))

    def records_of(self, paths: Iterable[str]) -> Iterator[FileRecord]:
        """Yield the records of some files of a table without an edition before it, in their order."""
        return self._records((path, self, self._rows[_key(path)]) for path in paths)

    def let_go(self) -> list[str]:
        """Return the paths of the edition before that are not kept unchanged, sorted."""
        if self._base is None:
            return []
        kept = self._kept
        return sorted([_path(key) for key, row in self._base._rows.items() if not kept[row]])

    def sha512_each(self) -> Iterator[tuple[str, str]]:
        """Yield path and SHA-512 (hexadecimal) of all files, sorted by path."""
        end, step = _ROW.size - 64, _ROW.size
        for path, table, row in self._sorted():
            if table._odd and row in table._odd:
                yield path, table._odd[row].sha512
            else:
                yield path, table._data[row * step + end : row * step + step].hex()

    @staticmethod
    def _records(places: Iterable[tuple[str, FileTable, int]]) -> Iterator[FileRecord]:
        unpack, step = _ROW.unpack_from, _ROW.size
        for path, table, row in places:
            if table._odd and row in table._odd:
                yield table._odd[row].record
                continue
            size, mtime_ns, mode, edition, role, fast, _ = unpack(table._data, row * step)
            yield FileRecord(path, size, mtime_ns, mode, fast.hex(), table._roles[role], edition)

    def _sorted(self) -> Iterator[tuple[str, FileTable, int]]:
        """Yield each path, sorted, with the table that has it and the row there."""
        own, base = self._rows, self._base
        keys = sorted(self._keys())
        if keys and keys[0].startswith(_OUTSIDE):
            keys = [_key(path) for path in self.paths()]
        for key in keys:
            path = LIBRARY_FILES + key if key[:1] != _OUTSIDE else key[1:]
            row = own.get(key)
            if row is not None:
                yield path, self, row
            elif base is not None:
                yield path, base, base._rows[key]

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
