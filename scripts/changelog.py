"""Gather the files of changes/ into CHANGELOG.md: python scripts/changelog.py VERSION, or --check to look at them only."""

from __future__ import annotations

import datetime
import re
import sys
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
CHANGES = ROOT / "changes"
SORTS = {"added": "Added", "changed": "Changed", "fixed": "Fixed", "removed": "Removed"}


def fragments() -> dict[str, list[Path]]:
    """Return the files by sort.

    Raises
    ------
    SystemExit
        If one has no known sort, or nothing to say.
    """
    found: dict[str, list[Path]] = {sort: [] for sort in SORTS}
    for path in sorted(CHANGES.iterdir()):
        if path.name == "README.md":
            continue
        name = re.fullmatch(r"[a-z0-9-]+\.([a-z]+)\.md", path.name)
        if name is None or name.group(1) not in SORTS or not path.read_text(encoding="utf-8").strip():
            raise SystemExit(
                f"changes/{path.name}: it must be called NAME.SORT.md ({', '.join(SORTS)}) and say something"
            )
        found[name.group(1)].append(path)
    return found


def section(version: str, found: dict[str, list[Path]]) -> str:
    """Return the section of a version."""
    lines = [f"## {version} ({datetime.date.today().isoformat()})", ""]
    for sort, title in SORTS.items():
        if found[sort]:
            lines += [f"### {title}", ""]
            for path in found[sort]:
                first, *rest = path.read_text(encoding="utf-8").strip().splitlines()
                lines += [f"- {first}", *(f"  {line}" for line in rest)]
            lines.append("")
    return "\n".join(lines)


def main() -> int:
    """Check, or gather."""
    found = fragments()
    if sys.argv[1:] == ["--check"]:
        return 0
    (version,) = sys.argv[1:]
    path = ROOT / "CHANGELOG.md"
    head, mark, rest = path.read_text(encoding="utf-8").partition("## ")
    path.write_text(head + section(version, found) + "\n" + mark + rest, encoding="utf-8")
    for paths in found.values():
        for fragment in paths:
            fragment.unlink()
    return 0


if __name__ == "__main__":
    sys.exit(main())
