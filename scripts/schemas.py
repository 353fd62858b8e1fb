"""Publish the schemas of all JSON documents in docs/schema/, made from the structs; --check only compares."""

from __future__ import annotations

import json
import sys
from pathlib import Path

from _pages import keep

from dunechest.model.bodies import BODIES
from dunechest.model.schemas import schema_of

FOLDER = Path(__file__).resolve().parents[1] / "docs" / "schema"


def main() -> int:
    wanted = {f"{name}.json": json.dumps(schema_of(name), indent=2) + "\n" for name in (*BODIES, "event")}
    return keep(FOLDER, ".json", wanted)


if __name__ == "__main__":
    sys.exit(main())
