"""Carry out an archive plan. Nothing here decides."""
