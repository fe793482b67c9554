"""The site's own time: days, and minutes of the day, of many instants at once."""

from __future__ import annotations

from datetime import UTC, date, datetime, timedelta
from functools import lru_cache
from zoneinfo import ZoneInfo

import numpy as np
from numpy.typing import NDArray

Ints = NDArray[np.int64]

DAY_MINUTES = 1440
_DAY_US = 86_400_000_000
"""No zone has changed twice within one since 2000."""
_QUARTER_US = 900_000_000
"""Zones change on whole quarters of an hour."""


def local_us(at_us: Ints, zone: ZoneInfo) -> Ints:
    """The time that clocks at the site showed, as microseconds since 1970 there. Any shape."""
    offsets = _offsets_us(at_us, _DAY_US, zone)
    changes = offsets != _offsets_us(at_us + _DAY_US, _DAY_US, zone)
    offsets[changes] = _offsets_us(at_us[changes], _QUARTER_US, zone)
    return np.asarray(at_us + offsets)


def day_and_minute(at_us: Ints, zone: ZoneInfo) -> tuple[Ints, Ints]:
    """Days since 1970 and minutes since midnight, at the site."""
    minutes = local_us(at_us, zone) // 60_000_000
    return minutes // DAY_MINUTES, minutes % DAY_MINUTES


def weekday(days: Ints) -> Ints:
    """0 is Monday, of days since 1970 (a Thursday)."""
    return (days + 3) % 7


def day_name(day: int) -> str:
    """YYYY-MM-DD."""
    return (date(1970, 1, 1) + timedelta(days=day)).isoformat()


def local_time(at_us: int, zone: ZoneInfo) -> datetime:
    return datetime.fromtimestamp(at_us / 1e6, UTC).astimezone(zone)


def _offsets_us(at_us: Ints, step_us: int, zone: ZoneInfo) -> Ints:
    """As they were at the last whole step."""
    steps, place = np.unique(at_us // step_us, return_inverse=True)
    offsets = np.array([_offset_us(int(step) * step_us, zone) for step in steps], np.int64)
    return np.asarray(offsets[place].reshape(np.shape(at_us)))


@lru_cache(1 << 15)  # a site's quarters of an hour are asked for by one figure after the other
def _offset_us(at_us: int, zone: ZoneInfo) -> int:
    offset = local_time(at_us, zone).utcoffset()
    assert offset is not None  # a ZoneInfo always tells
    return round(offset.total_seconds() * 1e6)
