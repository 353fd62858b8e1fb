"""Write all shipped kinds as one document beside their files, so that a command reads one; --check only compares."""

from __future__ import annotations

import sys

from dunechest.library.kinds.load import SHIPPED, kinds_document


def main() -> int:
    place, wanted = SHIPPED / "all.json", kinds_document()
    if "--check" not in sys.argv:
        place.write_bytes(wanted)
        return 0
    if place.read_bytes() == wanted:
        return 0
    print(f"{place} is not what the kind files say; run: python scripts/shipped_kinds.py", file=sys.stderr)
    return 1


if __name__ == "__main__":
    sys.exit(main())
