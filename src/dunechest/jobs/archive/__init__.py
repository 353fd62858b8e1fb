"""Archive libraries to a chest: `planning` decides, `doing` does, `several` is both for libraries and chests together."""
