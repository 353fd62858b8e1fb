"""What an application can make again: by the names of folders, and by being smaller, newer copies of pictures.

A doubt never costs a file: a folder in which something holds references, or that is
named by something essential without being a copy, is left essential.
"""

from __future__ import annotations

import re
import struct
from collections import defaultdict
from collections.abc import Collection

from dunechest.library.draft.observing import Ground, Observation, Sureness, ending
from dunechest.names import parents

#: Words in a folder's name by which people and programs call what can be made again.
_SAYS_SO = frozenset(
    {"cache", "caches", "cached", "thumbnail", "thumbnails", "thumbs", "preview", "previews", "proxy", "proxies"}
    | {"waveform", "waveforms", "peaks"}
)
_HINTS = frozenset({"index", "indexes", "indices", "tmp", "temp", "renders", "rendered"})
_PICTURES = frozenset({".jpg", ".jpeg", ".png", ".gif", ".bmp", ".webp"})


def rebuildable_folders(ground: Ground, holding: Collection[str]) -> list[Observation]:
    """Find the folders of files that can be made again.

    Parameters
    ----------
    ground : Ground
        The library.
    holding : collection of str
        Files that hold references or are databases: whatever lies beside them in a folder is essential.
    """
    copies = _copies(ground)
    found: dict[str, tuple[Sureness, str]] = {}
    for folder in sorted(ground.below, key=lambda f: (f.count("/"), f)):
        if any(above in found for above in parents(folder)):
            continue
        if any(path in holding for path in ground.below[folder]):
            continue
        words = set(re.split(r"[^a-z]+", folder.rpartition("/")[2].lower()))
        are_copies = copies.get(folder)
        if words & _SAYS_SO:
            sure: Sureness = "sure" if are_copies else "likely"
            found[folder] = (sure, "its name says so" + (f", and {are_copies}" if are_copies else ""))
        elif are_copies:
            found[folder] = ("likely", are_copies)
        elif words & _HINTS:
            found[folder] = ("likely", "its name says so, and nothing in it holds references")
    return _patterns(ground, found)


def _patterns(ground: Ground, found: dict[str, tuple[Sureness, str]]) -> list[Observation]:
    """Say the folders as patterns; one of the same name in each of several folders becomes one pattern."""
    groups: dict[tuple[str, str], list[str]] = defaultdict(list)
    for folder in found:
        above, _, name = folder.rpartition("/")
        groups[above.rpartition("/")[0] if above else "", name if above else folder].append(folder)
    lines = []
    for (above, name), folders in sorted(groups.items()):
        if len(folders) > 1:
            patterns = [(f"{above}/" if above else "") + f"*/{name}/**"]
        else:
            patterns = [f"{folder}/**" for folder in folders]
        sureness = found[folders[0]][0]
        size = sum(ground.files[path].size for folder in folders for path in ground.below[folder])
        why = f"{found[folders[0]][1]}; {size:,} bytes"
        lines.append(Observation("roles", (("rebuildable", patterns),), sureness, why))
    return lines


def _copies(ground: Ground) -> dict[str, str]:
    """Find top folders of nothing but pictures that are smaller, newer copies of others in the library."""
    by_top: dict[str, list[str]] = defaultdict(list)
    for path in ground.files:
        if "/" in path:
            by_top[path.partition("/")[0]].append(path)
    shapes: dict[str, tuple[int, int]] = {}
    for paths in by_top.values():
        pictures = [p for p in paths if ending(p) in _PICTURES]
        for path in pictures[:3000]:
            shape = picture_shape(ground.head(path, 1 << 16))
            if shape is not None:
                shapes[path] = shape
    found = {}
    for top, paths in by_top.items():
        own = [p for p in paths if p in shapes]
        others = [p for p in shapes if not p.startswith(top + "/")]
        if len(own) < 3 or len(own) < len(paths) or not others:
            continue
        if _smaller_and_newer(ground, own, others, shapes):
            found[top] = f"{len(own)} pictures in it are smaller, newer copies"
    return found


def _smaller_and_newer(ground: Ground, own: list[str], others: list[str], shapes: dict[str, tuple[int, int]]) -> bool:
    """Whether nearly all of some pictures are of the form of larger and older others, and about as many."""
    if not 0.8 * len(others) <= len(own) <= 1.3 * len(others):
        return False
    largest = max(shapes[p][0] for p in own)
    if largest * 1.3 > min(shapes[p][0] for p in others):
        return False
    ratios = {round(shapes[p][0] / shapes[p][1], 1) for p in others}
    alike = sum(round(shapes[p][0] / shapes[p][1], 1) in ratios for p in own)
    ages = sorted(ground.files[p].mtime_ns for p in others)
    newer = sum(ground.files[p].mtime_ns >= ages[len(ages) // 2] for p in own)
    return alike >= 0.9 * len(own) and newer >= 0.9 * len(own)


def picture_shape(head: bytes) -> tuple[int, int] | None:
    """Return width and height of a JPEG, PNG or GIF picture from its first bytes, or None."""
    if head.startswith(b"\x89PNG\r\n\x1a\n") and len(head) >= 24:
        width, height = struct.unpack(">II", head[16:24])
        return (width, height) if width and height else None
    if head[:6] in (b"GIF87a", b"GIF89a") and len(head) >= 10:
        width, height = struct.unpack("<HH", head[6:10])
        return (width, height) if width and height else None
    if head.startswith(b"\xff\xd8"):
        place = 2
        while place + 9 < len(head) and head[place] == 0xFF:
            marker, length = head[place + 1], struct.unpack(">H", head[place + 2 : place + 4])[0]
            if 0xC0 <= marker <= 0xCF and marker not in (0xC4, 0xC8, 0xCC):
                height, width = struct.unpack(">HH", head[place + 5 : place + 9])
                return (width, height) if width and height else None
            place += 2 + length
    return None
