"""The computer: its standard folders, drives and their filesystems' limits, processes, and who it is."""
