"""When a load may be placed and when it will be: recurrences in a site's own time, hours without load, free windows.

Times are aware datetimes; a recurrence is an RFC 5545 rule read in the site's zone, so that nine o'clock stays nine
o'clock when the clocks change.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from itertools import islice
from zoneinfo import ZoneInfo

from dateutil.rrule import rrulestr

_STEP = timedelta(minutes=5)
HORIZON = timedelta(days=28)
"""How far ahead a free window is looked for, and clashes are."""
MAX_OCCURRENCES = 500
_PARTS = {"FREQ", "INTERVAL", "BYDAY", "BYHOUR", "BYMINUTE", "BYMONTHDAY", "COUNT", "UNTIL", "WKST"}
_FREQUENCIES = {"HOURLY", "DAILY", "WEEKLY", "MONTHLY"}


class ScheduleError(ValueError):
    """A recurrence that cannot be; the text says why."""


@dataclass(frozen=True)
class Quiet:
    """Hours of each of these weekdays in which no load may be placed."""

    days: str
    """ISO weekdays, Monday 1, as digits."""
    from_minute: int
    to_minute: int
    why: str


@dataclass(frozen=True)
class Span:
    start: datetime
    end: datetime

    def meets(self, other: Span) -> bool:
        return self.start < other.end and other.start < self.end


def from_us(us: int) -> datetime:
    """From UTC microseconds, as records count time."""
    return datetime.fromtimestamp(us / 1e6, UTC)


def to_us(at: datetime) -> int:
    return round(at.timestamp() * 1e6)


def check_rule(rule: str) -> None:
    """Raises ScheduleError for what is no RFC 5545 recurrence, or one finer than by the hour."""
    parts = dict(part.partition("=")[::2] for part in rule.upper().split(";"))
    unknown = set(parts) - _PARTS
    if unknown:
        raise ScheduleError(f"The recurrence holds “{sorted(unknown)[0]}”. It may hold {', '.join(sorted(_PARTS))}.")
    if parts.get("FREQ") not in _FREQUENCIES:
        raise ScheduleError("The recurrence must say how often: FREQ=HOURLY, DAILY, WEEKLY or MONTHLY.")
    try:
        # COUNT and an end are bounds; a rule without them is bounded by whoever walks it.
        rrulestr(_floating_until(rule), dtstart=datetime(2026, 1, 1, 9))  # noqa: DTZ001 (local time by design)
    except (ValueError, TypeError) as error:
        raise ScheduleError(f"The recurrence cannot be read: {error}.") from None


def occurrences(start: datetime, rule: str | None, zone: ZoneInfo, after: datetime) -> Iterator[datetime]:
    """Starts later than ``after``, in order, as UTC. Without a rule there is one.

    A local time that a clock change skips is moved by the length of the gap, as calendars do.
    """
    if rule is None:
        if start > after:
            yield start.astimezone(UTC)
        return
    first = start.astimezone(zone).replace(tzinfo=None)
    floor = after.astimezone(zone).replace(tzinfo=None) - timedelta(hours=3)  # a clock change apart at most
    for local in rrulestr(_floating_until(rule), dtstart=first).xafter(floor, count=MAX_OCCURRENCES, inc=True):
        found = local.replace(tzinfo=zone).astimezone(UTC)
        if found > after:
            yield found


def next_start(start: datetime, rule: str | None, zone: ZoneInfo, after: datetime) -> datetime | None:
    return next(occurrences(start, rule, zone, after), None)


def quiet_span(span: Span, quiet: Sequence[Quiet], zone: ZoneInfo) -> tuple[Span, Quiet] | None:
    """The first stretch without load that ``span`` runs into."""
    day = span.start.astimezone(zone).date() - timedelta(days=1)
    last = span.end.astimezone(zone).date()
    found = []
    while day <= last:
        midnight = datetime(day.year, day.month, day.day, tzinfo=zone)
        for hours in quiet:
            if str(day.isoweekday()) in hours.days:
                stretch = Span(_at(midnight, hours.from_minute), _at(midnight, hours.to_minute))
                if stretch.meets(span):
                    found.append((stretch, hours))
        day += timedelta(days=1)
    return min(found, key=lambda f: f[0].start, default=None)


def free_window(
    wanted: datetime, length: timedelta, quiet: Sequence[Quiet], taken: Iterable[Span], zone: ZoneInfo
) -> datetime | None:
    """The first start at or after ``wanted`` (then in steps of five minutes) with room for ``length``, or None."""
    busy = sorted(taken, key=lambda s: s.start)
    at = wanted
    while at < wanted + HORIZON:
        span = Span(at, at + length)
        hit = quiet_span(span, quiet, zone)
        ends = [hit[0].end] if hit else []
        ends += [other.end for other in busy if other.meets(span)]
        if not ends:
            return at.astimezone(UTC)
        at = _rounded_up(max(ends))
    return None


def longest_window(wanted: datetime, quiet: Sequence[Quiet], taken: Iterable[Span], zone: ZoneInfo) -> timedelta:
    """How long a load may last that starts at ``wanted``; not at all where something else is on then."""
    ends = [wanted + HORIZON, *(max(s.start, wanted) for s in taken if s.end > wanted)]
    hit = quiet_span(Span(wanted, wanted + timedelta(days=8)), quiet, zone)
    if hit:
        ends.append(max(hit[0].start, wanted))
    return min(ends) - wanted


def clash(spans: Sequence[Span], others: Iterable[Span]) -> tuple[Span, Span] | None:
    """The first of ``spans`` that meets one of the others, with it."""
    taken = sorted(others, key=lambda s: s.start)
    for span in spans:
        for other in taken:
            if span.meets(other):
                return span, other
    return None


def spans(start: datetime, rule: str | None, zone: ZoneInfo, length: timedelta, after: datetime) -> list[Span]:
    """Each time within the horizon, whole."""
    until = after + HORIZON
    found = []
    for at in islice(occurrences(start, rule, zone, after - length), MAX_OCCURRENCES):
        if at > until:
            break
        found.append(Span(at, at + length))
    return found


def _at(midnight: datetime, minute: int) -> datetime:
    """A wall-clock minute of that day; from 1440 on, of the next one."""
    day = midnight + timedelta(days=minute // 1440)
    minute %= 1440
    return day.replace(hour=minute // 60, minute=minute % 60).astimezone(UTC)


def _rounded_up(at: datetime) -> datetime:
    utc = at.astimezone(UTC)
    over = timedelta(minutes=utc.minute % 5, seconds=utc.second, microseconds=utc.microsecond)
    return utc if not over else utc - over + _STEP


def _floating_until(rule: str) -> str:
    """UNTIL without its zone: the rule is walked in local time."""
    parts = rule.upper().split(";")
    return ";".join(p.rstrip("Z") if p.startswith("UNTIL=") else p for p in parts)
