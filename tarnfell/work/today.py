"""The start page: what needs a look now, what goes on, what comes next, and what has changed since the last visit."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Literal

from tarnfell.store import alerts as alert_store
from tarnfell.store import cells as cell_store
from tarnfell.store import jobs as job_store
from tarnfell.store import probes as probe_store
from tarnfell.store import routines as routine_store
from tarnfell.store import today as today_store
from tarnfell.store import watches as watch_store
from tarnfell.wire.kinds import Name
from tarnfell.work.placing import presence
from tarnfell.work.watch.routines import WHAT_WORDS, quiet_words
from tarnfell.work.watch.status import state_of

SHOWN = 12
"""Of what goes on and of what comes next."""
Stage = Literal["place", "check", "load", "watch", "alerts", "run", "line", "packets", "look"]
STAGES: dict[Name, Stage] = {
    "calls": "run", "check": "check", "fill": "line", "flow": "packets", "look": "look", "distances": "place",
    "services": "watch", "update": "place", "answer": "place", "silence": "place", "end": "place",
}  # fmt: skip
_WORDS: dict[Name, tuple[str, str]] = {
    "calls": ("run", "runs"),
    "check": ("check", "checks"),
    "fill": ("line fill", "line fills"),
    "flow": ("packet load", "packet loads"),
    "look": ("look", "looks"),
    "services": ("round of names and services", "rounds of names and services"),
    "distances": ("check of reachability", "checks of reachability"),
    "update": ("update", "updates"),
    "answer": ("task", "tasks"),
    "silence": ("task", "tasks"),
    "end": ("task", "tasks"),
}
_FROM_BROWSERS: dict[Name, tuple[str, str]] = {
    "calls": ("test from a browser", "tests from a browser"),
    "fill": ("line fill from a browser", "line fills from a browser"),
}


@dataclass(frozen=True)
class Item:
    """One thing at a site, and the screen of it; ``at_us`` is since when, or when it is due."""

    site_id: int
    says: str
    at_us: int
    stage: Stage
    number: int | None = None
    """Of the run, where it is one."""


@dataclass(frozen=True)
class Changed:
    site_id: int
    says: str


@dataclass(frozen=True)
class Today:
    trouble: list[Item]
    running: list[Item]
    coming: list[Item]
    changed: list[Changed]


def today(db: sqlite3.Connection, user_id: int, since_us: int | None, at_us: int) -> Today:
    """For somebody who comes to it; ``since_us`` is when the visit before ended; None where there was none."""
    return Today(
        trouble=[*_alerts(db), *_silent(db, user_id, at_us), *_watches(db, user_id, at_us)],
        running=[
            Item(
                one.site_id,
                f"{job_store.WORDS[one.kind]}, {one.probe}" + ("" if one.state == "running" else ", not begun yet"),
                one.since_us,
                STAGES[one.kind],
                one.id if one.kind == "calls" else None,
            )
            for one in today_store.open_jobs(db, user_id, SHOWN)
        ],
        coming=[
            Item(one.site_id, _planned(one), one.next_us, "load" if one.what == "load" else "line")
            for one in today_store.next_due(db, user_id, SHOWN)
        ],
        changed=_changed(db, user_id, since_us) if since_us is not None else [],
    )


def _planned(one: today_store.Due) -> str:
    if one.what == "fill":
        return "Planned line fill"
    return f"Planned load “{one.name}”" if one.name else "Planned load"


def _alerts(db: sqlite3.Connection) -> Iterator[Item]:
    for one in alert_store.open_alerts(db):
        yield Item(one.site_id, one.says, one.began_us, "alerts")


def _silent(db: sqlite3.Connection, user_id: int, at_us: int) -> Iterator[Item]:
    for one in today_store.silent_probes(db, user_id, at_us - presence.ONLINE_WITHIN_US):
        yield Item(one.site_id, f"Probe {one.name} is offline.", one.last_contact_us, "place")


def _watches(db: sqlite3.Connection, user_id: int, at_us: int) -> Iterator[Item]:
    """Those that bring nothing although their probe is online."""
    for probe_id in today_store.watching_probes(db, user_id):
        probe, watch = probe_store.probe_by_id(db, probe_id), watch_store.watch_of(db, probe_id)
        if watch is None:
            continue
        newest_us = watch_store.newest_us(db, watch.id)
        state, words = state_of(probe, watch, newest_us, at_us)
        if state in ("trouble", "quiet"):
            yield Item(probe.site_id, f"Watch of {probe.name}: {words}", newest_us or watch.changed_us, "watch")
        for one in routine_store.routines_of(db, watch.id):
            quiet = quiet_words(one, watch, at_us)
            if quiet:
                says = f"Watch of {probe.name}, {WHAT_WORDS[one.what]}: {quiet}"
                yield Item(probe.site_id, says, one.begun_us or watch.changed_us, "watch")


def _changed(db: sqlite3.Connection, user_id: int, since_us: int) -> list[Changed]:
    parts: dict[int, list[str]] = {}
    for one in today_store.ended_since(db, user_id, since_us):
        words = (_FROM_BROWSERS if one.browser else _WORDS)[one.kind][one.count != 1]
        parts.setdefault(one.site_id, []).append(f"{one.count} {words}{' failed' if one.failed else ''}")
    for site_id, (told, over) in today_store.alerts_since(db, user_id, since_us).items():
        words = f"{told} {'alert' if told == 1 else 'alerts'}"
        parts.setdefault(site_id, []).append(f"{words}, {over} over" if over else words)
    for site_id, count in today_store.imports_since(db, user_id, since_us).items():
        parts.setdefault(site_id, []).append(f"{count} imported {'file' if count == 1 else 'files'}")
    return [Changed(site_id, "; ".join(words)) for site_id, words in sorted(parts.items())]


@dataclass(frozen=True)
class WatchHour:
    at_us: int
    mos: float


def watched_hours(db: sqlite3.Connection, site_id: int) -> list[WatchHour]:
    """The worst of the site's watches in each hour of the newest days there are, in the order of time."""
    hours: dict[int, float] = {}
    for probe in probe_store.probes_of(db, site_id):
        watch = watch_store.watch_of(db, probe.id)
        if watch is not None:
            for at_us, mos in json.loads(cell_store.week_of(db, watch.id)):
                hours[at_us] = min(mos, hours.get(at_us, mos))
    return [WatchHour(at_us, mos) for at_us, mos in sorted(hours.items())]
