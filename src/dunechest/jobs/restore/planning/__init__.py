"""Decide what a restore means. Nothing here changes anything on this computer."""
