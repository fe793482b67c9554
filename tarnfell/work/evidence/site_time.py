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
    return Moment(local.date().isoformat(), minute, site.business.is_open(local.isoweekday(), minute))
