"""Carry out what was decided."""
