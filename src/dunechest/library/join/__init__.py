"""Merge two files of the same sort where a library is merged into another, as its kind says and not otherwise."""
