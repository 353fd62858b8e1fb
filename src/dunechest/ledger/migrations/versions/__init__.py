"""The revisions, each in a module of its own."""
