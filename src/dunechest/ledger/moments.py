"""When things happened, as far as a clock can be believed that was wrong now and then.

What came after what is told by the order in which it was noted. A moment that does not fit into that order, or that is still
to come, is not believed: then the thing counts as happened with the one before it.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Sequence

#: The start of 2024 (seconds since 1970), before which this program did not run: a clock that says so has lost its time.
BEGINNING = 1_704_067_200.0


def believed(moments: Sequence[float], now: float) -> list[float]:
    """Return the moments (seconds since 1970) of things that happened one after the other, as far as they can be believed.

    The longest row of them is believed that never goes back and ends before now; of several rows as long, the later one. A
    moment outside it counts as the one before it in that row, or as 0.

    Parameters
    ----------
    moments : sequence of float
        What the clock said, in the order in which it happened.
    now : float
        What it says now.

    Examples
    --------
    >>> believed([10, 20, 9000, 30, 1, 40], now=50)  # a clock that was ahead once, and once behind
    [10, 20, 20, 30, 30, 40]
    """
    # From the end on: the longest row that never rises. Of each length the one whose first moment is latest is kept, since
    # most can come before that.
    heads: list[float] = []
    places: list[int] = []
    after = [-1] * len(moments)
    for place in range(len(moments) - 1, -1, -1):
        moment = moments[place]
        if moment > now or moment < BEGINNING <= now:
            continue
        length = bisect_right(heads, -moment)
        after[place] = places[length - 1] if length else -1
        if length == len(heads):
            heads.append(-moment)
            places.append(place)
        else:
            heads[length] = -moment
            places[length] = place
    found = [0.0] * len(moments)
    place = places[-1] if places else len(moments)
    last = 0.0
    for at, moment in enumerate(moments):
        if at == place:
            last, place = moment, after[place]
        found[at] = last
    return found
