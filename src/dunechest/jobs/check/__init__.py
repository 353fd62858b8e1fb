"""Whether copies are what they should be, and how they become so again."""
