"""How a bag becomes its image: what is brought, what only gets another name, what goes."""

from __future__ import annotations

from collections.abc import Iterator

from dunechest.chest.layout import DATA
from dunechest.chest.payload import mode_of
from dunechest.jobs.copy.image import Held, Image, plain_records
from dunechest.model.copy import BagChange, FileToCopy
from dunechest.values import FrozenDict


def sync_new(image: Image, source: Held, *, readable: bool) -> BagChange:
    """Say how a bag that is not there yet becomes an image: everything is brought."""
    return BagChange((*_payload(image, readable), *_earlier(image, source, readable), *_records(image, source)))


def sync_next(image: Image, source: Held, target: Held, *, readable: bool) -> BagChange:
    """Say how a bag that holds other editions of the same library becomes an image.

    What it holds already under any name is not copied again.
    """
    lying = target.own.lying.files
    now: dict[str, tuple[str, int]] = {
        DATA + path: (proven.record.blake3, proven.record.size) for path, proven in target.files.items()
    }
    now |= {path: (tag.blake3, tag.size) for path, tag in target.earlier.items()}
    there = {path for path, (_, size) in now.items() if lying.get(path) == size}
    wanted = [*_payload(image, readable), *_earlier(image, source, readable)]
    keep = {item.path for item in wanted if item.path in there and now[item.path][0] == item.blake3}
    pool: dict[str, list[str]] = {}
    for path in sorted(there - keep, reverse=True):
        pool.setdefault(now[path][0], []).append(path)
    bring: list[FileToCopy] = []
    moved: dict[str, str] = {}
    lost = []
    for item in wanted:
        if item.path in keep:
            continue
        old = pool.get(item.blake3)
        if old:
            moved[old.pop()] = item.path
            continue
        bring.append(item)
        if item.path in now and now[item.path][0] == item.blake3:
            lost.append(item.path)
    joined = {joined.path for joined in image.joined}
    leaving = sorted(there - keep - set(moved) - joined)
    records = [item for item in _records(image, source) if not _same_record(item, target)]
    return BagChange((*bring, *records), FrozenDict(moved), tuple(leaving), tuple(lost))


def _same_record(item: FileToCopy, target: Held) -> bool:
    tag = target.tags.get(item.path)
    return tag is not None and tag.blake3 == item.blake3 and target.own.fault_of(item.path) is None


def _payload(image: Image, readable: bool) -> Iterator[FileToCopy]:
    for path, proven in sorted(image.files.items()):
        record = proven.record
        full = DATA + path
        mode = mode_of(record.mode, readable=readable)
        yield FileToCopy(full, image.found_at(full), record.size, record.blake3, record.mtime_ns, mode)


def _earlier(image: Image, source: Held, readable: bool) -> Iterator[FileToCopy]:
    """Yield what only earlier editions have; what is private in the source stays so."""
    for path, tag in sorted(image.earlier.items()):
        if tag.blake3:  # otherwise it is written here, of what others hold
            place = image.found_at(path)
            try:
                mode = source.own.at(place).lstat().st_mode & 0o644
            except OSError:
                mode = 0o600
            yield FileToCopy(path, place, tag.size, tag.blake3, 0, mode_of(mode, readable=readable))


def _records(image: Image, source: Held) -> Iterator[FileToCopy]:
    if image.verbatim:
        for tag in sorted(plain_records(source), key=lambda tag: tag.path):
            yield FileToCopy(tag.path, tag.path, tag.size, tag.blake3, 0, 0o600 | 0o044)
