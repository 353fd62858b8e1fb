"""Chests themselves: made, shown, renamed, rebuilt, retired."""
