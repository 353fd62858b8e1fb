"""What a short command loads: neither a database library nor what speaks to servers, which would make it start later."""

from __future__ import annotations

import subprocess
import sys

import pytest

HEAVY = (
    "sqlalchemy",
    "alembic",
    "psycopg",
    "fsspec",
    "paramiko",
    "s3fs",
    "webdav4",
    "httpx",
    "keyring",
    "tomlkit",
    "pandas",
)


@pytest.mark.parametrize(
    "words", [("status",), ("chest", "list"), ("search", "tern"), ("verify", "nowhere"), ("find", ".")]
)
def test_nothing_heavy_is_loaded(words: tuple[str, ...]) -> None:
    script = (
        "import sys; from dunechest.cli.app import run; run(sys.argv[1:]); "
        f"sys.exit(', '.join(sorted(set(sys.modules) & set({HEAVY!r}))))"
    )
    ran = subprocess.run(
        [sys.executable, "-c", script, *words], capture_output=True, text=True, timeout=60, check=False
    )
    told = ran.stderr.strip().splitlines()[-1:] if ran.returncode else []
    assert not [name for name in HEAVY if told and name in told[0].split(", ")], ran.stderr
