"""Decide what mending does."""
