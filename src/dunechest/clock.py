"""The clock, in one place, so that a program or a test can put another one there."""

from __future__ import annotations

import time
from collections.abc import Callable

#: Returns seconds since 1970. Whoever simulates other days sets another function here.
now: Callable[[], float] = time.time
