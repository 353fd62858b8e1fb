"""Kinds of libraries: what is known of them, and kind files of one's own."""

from __future__ import annotations

from dunechest.door import door

__getattr__, __dir__, __all__ = door(__name__, __file__)
