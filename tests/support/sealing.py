"""Make a tampered bag or chest consistent again, as a clever stranger would."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable
from pathlib import Path
from typing import Any

import msgspec
from blake3 import blake3

from dunechest.bag.tags import format_info, parse_info
from dunechest.chest import records
from dunechest.chest.edition_totals import edition_line, totals_of
from dunechest.chest.tag_lists import Tag, manifest_of


def tag_files(bag: Path) -> list[Path]:
    return sorted(p for p in bag.rglob("*") if p.is_file() and p.relative_to(bag).parts[0] != "data")


def reseal(bag: Path, *, totals: bool = True) -> None:
    """Write both lists of tag files again; with `totals` also the counts in ``bag-info.txt``."""
    if totals:
        try:
            library = records.decode_library((bag / "dune/library.json").read_bytes(), bag)
        except Exception:
            library = None
        if library is not None:
            label, value = edition_line(library.edition, totals_of(library))
            pairs, _ = parse_info((bag / "bag-info.txt").read_text())
            kept = [p for p in pairs if not (p[0] == label and p[1].startswith(f"{library.edition}, "))]
            (bag / "bag-info.txt").write_bytes(format_info([*kept, (label, value)]))
    tags = []
    for path in tag_files(bag):
        name = path.relative_to(bag).as_posix()
        if name not in ("tagmanifest-sha512.txt", "dune/tags.jsonl"):
            content = path.read_bytes()
            tags.append(Tag(name, len(content), hashlib.sha512(content).hexdigest(), blake3(content).hexdigest()))
    lines = [records.TagRecord(tag.path, tag.size, tag.blake3, tag.sha512) for tag in tags]
    content = b"".join(msgspec.json.encode(line) + b"\n" for line in sorted(lines, key=lambda line: line.path))
    (bag / "dune" / "tags.jsonl").write_bytes(content)
    tags.append(Tag("dune/tags.jsonl", len(content), hashlib.sha512(content).hexdigest(), ""))
    (bag / "tagmanifest-sha512.txt").write_bytes(manifest_of(tags))


def edit(bag: Path, change: Callable[[dict[str, Any]], object]) -> None:
    """Change ``dune/library.json``, and make all agree with it."""
    path = bag / "dune" / "library.json"
    record = json.loads(path.read_bytes())
    change(record)
    path.write_text(json.dumps(record))
    reseal(bag)


def reseal_chest(folder: Path) -> None:
    lines = (f"{hashlib.sha512((folder / n).read_bytes()).hexdigest()}  {n}\n" for n in ("chest.json", "READ-ME.txt"))
    (folder / "chest-sha512.txt").write_text("".join(lines))
