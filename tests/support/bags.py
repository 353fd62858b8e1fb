"""Bags as other programs make them."""

from __future__ import annotations

import hashlib
from pathlib import Path

from dunechest.bag import manifest


def make_bag(
    folder: Path, algorithm: str, *, version: str = "1.0", encoding: str = "UTF-8", names: tuple[str, ...] = ()
) -> Path:
    """Write a bag as another program would."""
    names = names or ("one.txt", "deep/two.txt", "100%.txt")
    lines, total = [], 0
    for name in names:
        path = folder / "data" / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(f"content of {name}")
        total += path.stat().st_size
        value = hashlib.new(algorithm, path.read_bytes()).hexdigest()
        lines.append(f"{value} data/{manifest.encode_path(name)}")
    (folder / "bagit.txt").write_text(f"BagIt-Version: {version}\nTag-File-Character-Encoding: {encoding}\n")
    (folder / f"manifest-{algorithm}.txt").write_text("\n".join(lines) + "\n", encoding=encoding)
    (folder / "bag-info.txt").write_text(f"Payload-Oxum: {total}.{len(names)}\n", encoding=encoding)
    return folder
