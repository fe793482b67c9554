"""The plan that would close a site's evidence, as the load screen takes it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from zoneinfo import ZoneInfo

from tarnfell.core.figures import count
from tarnfell.core.schedule import Span, quiet_span
from tarnfell.core.verdict.capacity import concurrent_words
from tarnfell.core.verdict.closing import Closing, Hour, Short, closing
from tarnfell.core.verdict.score import Verdict
from tarnfell.core.verdict.site import Evaluation
from tarnfell.store.plans import Plan
from tarnfell.store.sites import Site
from tarnfell.work.placing.rules import quiet_hours

CALL_S = 60
MOST_CALLS = 100
"""Of one run, as the load screen proposes them."""
MOST_LOADED = 600
"""Beyond so many moments a number of calls is not shown by patience: the line has to be mended first."""


@dataclass(frozen=True)
class ClosingPlan:
    says: str
    calls: int
    """Concurrent, held."""
    call_s: int
    runs: int
    rule: str
    """RFC 5545."""
    start_local: str
    """The site's wall clock, as 2026-11-25T09:05."""
    under_way_us: int | None
    """When a plan next starts that gathers such evidence already; None where there is none."""


def closing_plan(site: Site, evaluation: Evaluation, now: datetime, plans: Sequence[Plan] = ()) -> ClosingPlan | None:
    """From tomorrow on, outside of all hours without load. None where nothing is missing or no hour is free."""
    zone = ZoneInfo(site.time_zone)
    tomorrow = now.astimezone(zone).replace(hour=0, minute=0, second=0, microsecond=0, tzinfo=None) + timedelta(days=1)
    free = {hour for hour in site.business.whole_hours() if _is_free(site, hour, tomorrow, zone)}
    seen = {(one.weekday, one.hour) for one in evaluation.coverage}
    short = _short(site, evaluation.verdict)
    found = closing(short, free, seen)
    if found is None:
        return None
    first = next(day for n in range(7) if (day := tomorrow + timedelta(days=n)).isoweekday() in found.weekdays)
    start = first.replace(hour=found.hours[0], minute=found.minutes[0])
    calls = min(MOST_CALLS, site.needed_calls)
    says = (
        f"{count(found.runs)} runs of {concurrent_words(calls)} for a minute each, "
        f"{found.a_day} a day from {start:%a %d %b} on: {_yield(found, site, evaluation.verdict, short)}"
    )
    under_way = min(
        (one.next_us for one in plans if one.rule and one.next_us and one.shape.most >= calls), default=None
    )
    return ClosingPlan(says, calls, CALL_S, found.runs, found.rule, f"{start:%Y-%m-%dT%H:%M}", under_way)


def _short(site: Site, verdict: Verdict) -> Short:
    loaded = verdict.capacity.more_moments(site.needed_calls, site.required_share_pct)
    return Short(
        max(0, site.required_days - verdict.days),
        max(0, site.required_busy_hours - verdict.busy_hours),
        max(0, site.required_moments - verdict.moments),
        loaded if loaded <= MOST_LOADED and site.needed_calls <= MOST_CALLS else 0,
    )


def _yield(found: Closing, site: Site, verdict: Verdict, short: Short) -> str:
    """What there is when every run has come about, of all that is short now."""
    if short.nothing:
        return "each sees an hour of the week without a call so far."
    hours = verdict.busy_hours + found.days * len(found.hours)
    told = [
        (short.days, f"{verdict.days + found.days} of {site.required_days} days"),
        (short.hours, f"{hours} of {site.required_busy_hours} busy hours"),
        (short.moments, f"{verdict.moments + found.runs} of {site.required_moments} moments of business hours"),
        (
            short.loaded,
            f"{found.runs} more moments at this load ({short.loaded} without a bad call would show it)",
        ),
    ]
    said = [words for is_short, words in told if is_short]
    return f"{', '.join(said[:-1])}{' and ' if said[1:] else ''}{said[-1]}, if every run comes about."


def _is_free(site: Site, hour: Hour, tomorrow: datetime, zone: ZoneInfo) -> bool:
    """Outside of all hours without load."""
    weekday, begin = hour
    day = tomorrow + timedelta(days=(weekday - tomorrow.isoweekday()) % 7)
    start = day.replace(hour=begin, tzinfo=zone)
    return quiet_span(Span(start, start + timedelta(hours=1)), quiet_hours(site), zone) is None
