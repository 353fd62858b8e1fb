"""Deciding what of the routines is due. Nothing here changes anything."""
