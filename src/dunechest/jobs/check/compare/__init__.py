"""Compare two places file by file, by their bytes: `compare` and `compare_chests` are the doors."""

from __future__ import annotations

from dunechest.jobs.check.compare.by_bytes import compare
from dunechest.jobs.check.compare.chests import compare_chests, names_a_chest
from dunechest.model.compare import ChestComparison, Comparison, LibraryComparison, Mismatch

__all__ = [
    "ChestComparison",
    "Comparison",
    "LibraryComparison",
    "Mismatch",
    "compare",
    "compare_chests",
    "names_a_chest",
]
