"""Run the tests of the core under a Python that looks like one on macOS: ``python scripts/macos.py [PYTEST WORDS]``."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
#: Tests of the core that are of no one system. What belongs to another system is skipped by itself.
TESTS = (
    "tests/bag",
    "tests/chest",
    "tests/transfer",
    "tests/ledger",
    "tests/library",
    "tests/jobs",
    "tests/whole/test_system_files.py",
)


def main() -> int:
    """Run them; return pytest's status."""
    path = os.pathsep.join(
        [str(ROOT / "tests" / "support" / "macos"), *filter(None, [os.environ.get("PYTHONPATH", "")])]
    )
    environment = {**os.environ, "PYTHONPATH": path, "DUNECHEST_SIMULATE": "macos"}
    words = sys.argv[1:] or ["-n", "3", "--dist", "worksteal", "-q", "-m", "not slow and not mounted", *TESTS]
    return subprocess.run(
        [sys.executable, "-m", "pytest", "-W", "ignore:Module already imported", *words],
        cwd=ROOT,
        env=environment,
        check=False,
    ).returncode


if __name__ == "__main__":
    raise SystemExit(main())
