"""Which moments are believed of a clock that was wrong now and then."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from dunechest.ledger.moments import believed


@given(st.lists(st.integers(0, 60)), st.integers(0, 60))
def test_what_is_believed_never_goes_back_and_is_never_to_come(moments: list[int], now: int) -> None:
    found = believed(moments, now)
    assert found == sorted(found)
    assert all(moment <= now for moment in found)
    assert all(moment in (0, *moments) for moment in found)


@given(st.lists(st.integers(0, 60)), st.integers(0, 60))
def test_as_many_are_believed_as_can_be(moments: list[int], now: int) -> None:
    longest: list[int] = []
    for at, moment in enumerate(moments):
        before = [longest[i] for i in range(at) if moments[i] <= moment and longest[i]]
        longest.append((1 + max(before, default=0)) if moment <= now else 0)
    told = sum(one == other for one, other in zip(believed(moments, now), moments, strict=True))
    assert told >= max(longest, default=0)


@given(st.lists(st.integers(100, 160)), st.data())
def test_one_wrong_night_changes_no_other(moments: list[int], data: st.DataObject) -> None:
    moments = sorted(moments)
    place = data.draw(st.integers(0, len(moments)))
    wrong = data.draw(st.sampled_from([1, 10_000]))
    found = believed([*moments[:place], wrong, *moments[place:]], 200)
    assert [*found[:place], *found[place + 1 :]] == moments or not moments
