"""When something happened, as the site has it: its own day and minute, and whether it was open."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime
from zoneinfo import ZoneInfo

from tarnfell.store.sites import Site


@dataclass(frozen=True)
class Moment:
    """A time as the site has it."""

    day: str
    minute: float
    busy: bool


def moment_at(site: Site, at_us: int) -> Moment:
    local = datetime.fromtimestamp(at_us / 1e6, UTC).astimezone(ZoneInfo(site.time_zone))
    minute = local.hour * 60 + local.minute + local.second / 60
    return Moment(local.date().isoformat(), minute, is_open(site, local.isoweekday(), minute))


def is_open(site: Site, weekday: int, minute: float) -> bool:
    """Hours that pass midnight belong to the day they begin on."""
    today = str(weekday) in site.open_days
    if site.open_minute < site.close_minute:
        return today and site.open_minute <= minute < site.close_minute
    yesterday = str((weekday - 2) % 7 + 1) in site.open_days
    return (today and minute >= site.open_minute) or (yesterday and minute < site.close_minute)


def open_hours(site: Site) -> frozenset[tuple[int, int]]:
    """ISO weekday and hour of each hour of the week that has business in it."""
    return frozenset(
        (weekday, hour)
        for weekday in range(1, 8)
        for hour in range(24)
        if any(is_open(site, weekday, 60 * hour + minute) for minute in range(0, 60, 5))
    )
