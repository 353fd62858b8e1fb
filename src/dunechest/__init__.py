"""Dune Chest: archive application libraries to external drives, verify the copies, restore them.

The public interface. Everything is loaded when it is first used, so that
``import dunechest`` costs next to nothing. For each job there is ``plan_x()``, which decides and changes nothing,
`carry_out`, which does what a plan says, and ``x()`` for both in one call.

Examples
--------
>>> import dunechest, pathlib, tempfile
>>> home, drive = pathlib.Path(tempfile.mkdtemp()), tempfile.mkdtemp()
>>> _ = (home / "notes.txt").write_text("spring tide at noon")
>>> chest = dunechest.create_chest(drive, "blue")
>>> (result,) = dunechest.archive(home, chest)
>>> result.archived_count
1
>>> dunechest.verify(chest).ok
True
"""

from __future__ import annotations

from dunechest.door import door

__getattr__, __dir__, __all__ = door(__name__, __file__)
