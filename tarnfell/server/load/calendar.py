"""Planned loads as an iCalendar file (RFC 5545), for the calendars of the people at the site."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta
from zoneinfo import ZoneInfo

from icalendar import Calendar, Event, vRecur


@dataclass(frozen=True)
class Entry:
    uid: str
    title: str
    words: str
    start: datetime
    length: timedelta
    rule: str | None


def serialize(site: str, zone: ZoneInfo, entries: list[Entry], now: datetime) -> bytes:
    """One VEVENT each, in the site's own time with its VTIMEZONE."""
    calendar = Calendar()
    calendar.add("prodid", "-//Tarnfell//Planned test calls//EN")
    calendar.add("version", "2.0")
    calendar.add("x-wr-calname", f"Test calls at {site}")
    for entry in entries:
        event = Event()
        event.add("uid", entry.uid)
        event.add("dtstamp", now)
        event.add("summary", entry.title)
        event.add("description", entry.words)
        event.add("dtstart", entry.start.astimezone(zone))
        event.add("duration", entry.length)
        if entry.rule:
            event.add("rrule", vRecur.from_ical(entry.rule))
        calendar.add_component(event)
    calendar.add_missing_timezones()
    return bytes(calendar.to_ical())
