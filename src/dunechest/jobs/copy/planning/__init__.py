"""Decide what copying does."""
