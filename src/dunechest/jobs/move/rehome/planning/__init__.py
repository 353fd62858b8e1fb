"""Decide what moving a library to a drive means."""
