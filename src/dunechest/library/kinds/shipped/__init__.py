"""The kinds that are shipped, as package data."""
