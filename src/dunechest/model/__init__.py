"""Values: what plans, results and findings are made of. Their documents and schemas are made from them."""

from __future__ import annotations

from dunechest.door import door

__getattr__, __dir__, __all__ = door(__name__, __file__)
