"""Carry out a restore plan. Nothing here decides."""
