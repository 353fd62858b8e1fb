"""Prints the password of a computer of the sample office, as a person's own command would."""

from __future__ import annotations

import hashlib
import sys


def password_of(name: str) -> str:
    """Return a password that is made up, and the same each time."""
    return "marram-" + hashlib.sha256(f"Marram Point, {name}".encode()).hexdigest()[:20]


if __name__ == "__main__":
    print(password_of(sys.argv[1]))
