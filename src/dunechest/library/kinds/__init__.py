"""Kinds: what sorts of libraries there are, as kind files describe them."""
