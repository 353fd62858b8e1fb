"""Decide what an archive means. Nothing here changes a library or a bag."""
