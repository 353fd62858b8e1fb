"""What is seldom done with a chest: forgetting, repairing, moving, and where it is on a server."""

from __future__ import annotations

from dunechest.door import door

__getattr__, __dir__, __all__ = door(__name__, __file__)
