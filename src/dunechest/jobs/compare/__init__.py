"""Compare two places file by file, by their bytes: `compare` is the door."""

from __future__ import annotations

from dunechest.jobs.compare.by_bytes import compare
from dunechest.jobs.compare.result import Comparison, Mismatch

__all__ = ["Comparison", "Mismatch", "compare"]
