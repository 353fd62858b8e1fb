"""Stand-ins for the applications of Marram Point.

They do not draw a window, but they behave as applications do: each reads its own
setting to find its library, puts a lock mark in it while it is open, refuses a broken
database or half a library, lists what it has and what is missing, makes again what it
can make again, and takes over files that lie in the right place.

``python -m dunechest.demo.applications glasswort open --home HOME`` starts one.
"""

from __future__ import annotations

from dunechest.demo.applications.base import Application, Opened, RefusalError
from dunechest.demo.applications.cuttlebone import Cuttlebone
from dunechest.demo.applications.glasswort import Glasswort
from dunechest.demo.applications.limpet import Limpet
from dunechest.demo.applications.redshank import Redshank
from dunechest.demo.applications.saltpan import Saltpan
from dunechest.demo.applications.seaholly import Seaholly
from dunechest.demo.applications.spindrift import Spindrift
from dunechest.demo.applications.tidewrack import Tidewrack

APPLICATIONS: dict[str, type[Application]] = {
    "glasswort": Glasswort,
    "redshank": Redshank,
    "tidewrack": Tidewrack,
    "seaholly": Seaholly,
    "cuttlebone": Cuttlebone,
    "spindrift": Spindrift,
    "saltpan": Saltpan,
    "limpet": Limpet,
}

__all__ = ["APPLICATIONS", "Application", "Opened", "RefusalError"]
