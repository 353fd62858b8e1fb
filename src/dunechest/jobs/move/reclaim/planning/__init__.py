"""Decide what may be deleted."""
