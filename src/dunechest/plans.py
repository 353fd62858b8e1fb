"""Plans that are saved, and what was interrupted."""

from __future__ import annotations

from dunechest.door import door

__getattr__, __dir__, __all__ = door(__name__, __file__)
