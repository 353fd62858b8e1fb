"""Print the lowest version of each dependency that pyproject.toml allows, as constraints for pip."""

from __future__ import annotations

import re
import tomllib
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
#: What is tried in the lowest versions: what a person installs, and not the tools of development.
EXTRAS = ("frames", "office")


def main() -> None:
    """Print one constraint a line."""
    project = tomllib.loads((ROOT / "pyproject.toml").read_text(encoding="utf-8"))["project"]
    extras = [item for name in EXTRAS for item in project["optional-dependencies"][name]]
    for requirement in [*project["dependencies"], *extras]:
        found = re.match(r"([\w.-]+)(?:\[[\w,]+\])?>=([\w.]+)", requirement)
        if found is None:
            raise SystemExit(f"{requirement} has no lower bound")
        print(f"{found.group(1)}=={found.group(2)}")


if __name__ == "__main__":
    main()
