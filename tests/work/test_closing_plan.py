"""The plan that closes a site's evidence: what is short, from tomorrow on, outside of hours without load."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, datetime
from types import SimpleNamespace
from typing import Any

import pytest

from tarnfell.core.verdict.coverage import CoveredHour
from tarnfell.store.db import connect
from tarnfell.store.sites import Blackout, Site, site_by_id
from tarnfell.work.placing.closing_plan import ClosingPlan, closing_plan
from tests.server.conftest import House, house

pytestmark = pytest.mark.usefixtures("told_as_before")

__all__ = ["house"]

THURSDAY_LATE = datetime(2026, 7, 2, 23, 30, tzinfo=UTC)
"""Friday in London."""
EVERY = tuple((day, hour) for day in range(1, 6) for hour in range(9, 18))


def site_of(house: House, **values: Any) -> Site:
    office = {"open_days": "12345", "open_minute": 9 * 60, "close_minute": 17 * 60 + 30, "time_zone": "Europe/London"}
    asked = {"required_days": 5, "required_busy_hours": 20, "required_moments": 60, "needed_calls": 12}
    return replace(site_by_id(connect(house.folder), 1), **{**office, **asked, **values})


def plan(
    site: Site, days: int = 0, hours: int = 0, moments: int = 0, loaded: int = 0, seen: tuple[Any, ...] = ()
) -> ClosingPlan | None:
    def more(calls: int, required_pct: float) -> int:
        assert (calls, required_pct) == (site.needed_calls, site.required_share_pct)
        return loaded

    verdict = SimpleNamespace(days=days, busy_hours=hours, moments=moments, capacity=SimpleNamespace(more_moments=more))
    found: Any = SimpleNamespace(verdict=verdict, coverage=[CoveredHour(*at, 1, 1, 1) for at in seen])
    return closing_plan(site, found, THURSDAY_LATE)


def test_from_the_next_day_of_the_site_in_whole_hours_of_business(house: House) -> None:
    found = plan(site_of(house), days=2, hours=19, moments=20)
    assert found is not None
    # Three days of eight hours; the half hour at the end of business is none. Two runs an hour give 48 of 40 moments.
    assert found.rule == "FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR;BYHOUR=9,10,11,12,13,14,15,16;BYMINUTE=5,35;COUNT=48"
    assert (found.start_local, found.calls, found.call_s, found.runs) == ("2026-07-06T09:05", 12, 60, 48)
    assert found.says == (
        "48 runs of 12 concurrent calls for a minute each, 16 a day from Mon 06 Jul on: 5 of 5 days, 43 of 20 busy "
        "hours and 68 of 60 moments of business hours, if every run comes about."
    )


def test_hours_without_load_are_left_out_be_they_of_the_night_before(house: House) -> None:
    noon = Blackout("12345", 12 * 60 + 30, 13 * 60 + 15, "till closing")
    night = Blackout("4", 22 * 60, 9 * 60 + 30, "backups")
    found = plan(site_of(house, blackouts=(noon, night)), days=4, hours=20, moments=60)
    assert found is not None
    # Without Friday's nine o'clock four days would have six hours each.
    assert found.rule == "FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR;BYHOUR=10,11,14,15,16;BYMINUTE=5;COUNT=5"


def test_hours_without_load_are_those_of_their_own_day_of_the_week(house: House) -> None:
    """A Monday's, asked on the Friday before."""
    enough = {"days": 5, "hours": 20, "moments": 60}
    unseen = tuple(one for one in EVERY if one != (1, 10))
    for day, starts in (("1", None), ("2", "2026-07-06T10:05"), ("7", "2026-07-06T10:05")):
        site = site_of(house, blackouts=(Blackout(day, 10 * 60, 11 * 60, ""),))
        found = plan(site, **enough, seen=unseen)
        assert (found and found.start_local) == starts


def test_with_enough_evidence_the_hours_that_were_never_seen(house: House) -> None:
    enough = {"days": 5, "hours": 20, "moments": 60}
    assert plan(site_of(house), **enough, seen=EVERY) is None
    found = plan(site_of(house), **enough, seen=tuple(one for one in EVERY if one != (3, 11)))
    assert found is not None
    assert (found.runs, found.start_local) == (1, "2026-07-08T11:05")
    assert found.says.endswith("each sees an hour of the week without a call so far.")


def test_the_number_of_calls_that_is_not_shown_yet_is_held_until_it_can_be(house: House) -> None:
    enough = {"days": 5, "hours": 20, "moments": 60}
    found = plan(site_of(house), **enough, loaded=100)
    assert found is not None
    assert found.runs == 3 * 8 * 6
    assert found.says.endswith(
        "48 a day from Mon 06 Jul on: 144 more moments at this load (100 without a bad call would show it), "
        "if every run comes about."
    )
    more = plan(site_of(house), **{**enough, "days": 4}, loaded=600)
    assert more is not None
    assert (more.runs, "5 of 5 days" in more.says, "busy hours" in more.says) == (13 * 8 * 6, False, False)
    for site, moments in ((site_of(house), 601), (site_of(house, needed_calls=101), 100)):
        assert plan(site, **enough, loaded=moments, seen=EVERY) is None


def test_a_plan_that_gathers_such_evidence_already_is_told(house: House) -> None:
    def planned(calls: int, rule: str | None, next_us: int | None) -> Any:
        return SimpleNamespace(rule=rule, next_us=next_us, shape=SimpleNamespace(most=calls))

    def under_way(*plans: Any) -> int | None:
        found = closing_plan(site_of(house), short, THURSDAY_LATE, plans)
        assert found is not None
        return found.under_way_us

    verdict = SimpleNamespace(days=0, busy_hours=0, moments=0, capacity=SimpleNamespace(more_moments=lambda *_: 0))
    short: Any = SimpleNamespace(verdict=verdict, coverage=[])
    assert under_way() is None
    # One of fewer calls, one that comes once, and a draft gather it not.
    assert under_way(planned(11, "FREQ=DAILY", 5), planned(12, None, 6), planned(12, "FREQ=DAILY", None)) is None
    assert under_way(planned(12, "FREQ=DAILY", 9), planned(20, "FREQ=DAILY", 7)) == 7


def test_where_every_hour_is_without_load_there_is_none(house: House) -> None:
    assert plan(site_of(house, blackouts=(Blackout("1234567", 0, 1440, ""),))) is None
    assert plan(site_of(house, needed_calls=250)).calls == 100  # type: ignore[union-attr]
