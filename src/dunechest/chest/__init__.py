"""A chest on a drive: its own records, the bags in it, the journal of a change, and recovery."""
