"""Bytes on their way: walk, read once, digest twice, write, flush, read back.

Nothing here knows what a bag, a chest or a library is.
"""
