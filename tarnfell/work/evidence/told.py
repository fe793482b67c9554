"""What watches and checks of a site tell of causes, as its evaluation takes them."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from datetime import UTC, datetime
from zoneinfo import ZoneInfo

from tarnfell.core.check.judge import judge
from tarnfell.core.verdict.told import Told
from tarnfell.store import checks as check_store
from tarnfell.store import jobs as job_store
from tarnfell.store import watches as watch_store
from tarnfell.store.sites import Site
from tarnfell.wire.kinds.check import CheckResult
from tarnfell.wire.kinds.fields import read
from tarnfell.work.evidence.watched import moments_of
from tarnfell.work.watch.reading import ReadFinding, WatchReading, kept_reading

LOOKED_AT = 50
"""Newest checks among which the newest of each probe is looked for."""


def told_of(db: sqlite3.Connection, site: Site, since_us: int) -> list[Told]:
    """Since ``since_us``: before it evidence was set aside."""
    return [*_watched(db, site, since_us), *_checked(db, site, since_us)]


def _watched(db: sqlite3.Connection, site: Site, since_us: int) -> Iterator[Told]:
    for watch in watch_store.watches_of(db, site.id):
        reading = kept_reading(db, watch.id)
        for one in reading.findings if reading else ():
            told = _found(site, reading, one, since_us) if reading else None
            if told:
                yield told


def _found(site: Site, reading: WatchReading, one: ReadFinding, since_us: int) -> Told | None:
    """None of what was over before, and of a far end that answers no time stamps, which is no fault by itself."""
    own = [reading.episodes[i] for i in one.episodes]
    newer = [episode for episode in own if episode.from_us >= since_us]
    if one.key == "service-silent" or reading.until_us <= since_us or (own and not newer):
        return None
    says = one.says
    if len(newer) < len(own):
        says = f"{len(newer)} of {len(own)} times since the remedy. All in all: {says}"
    begin, end = (_local(site, at_us) for at_us in (reading.from_us, reading.until_us))
    return Told(
        "watch", f"{begin:%d %b} to {end:%d %b}", one.key, one.leg, one.direction, one.title, says, one.remedy, one.who,
        frozenset(moment for episode in newer for moment in moments_of(site, episode)),
    )  # fmt: skip


def _checked(db: sqlite3.Connection, site: Site, since_us: int) -> Iterator[Told]:
    """The newest check of each probe."""
    limits = check_store.wish_of(db, site.id).limits
    seen: set[int] = set()
    for job in job_store.newest_of_kind(db, site.id, "check", LOOKED_AT):
        at_us = job.begun_us or job.created_us
        if job.state != "done" or not job.result or job.probe_id in seen or at_us < since_us:
            continue
        seen.add(job.probe_id)
        when = f"{_local(site, at_us):%a %d %b %H:%M}"
        for one in judge(read(CheckResult, job.result), limits).causes:
            yield Told("check", when, one.key, one.leg, one.direction, one.title, one.says, one.remedy, one.who)


def _local(site: Site, at_us: int) -> datetime:
    return datetime.fromtimestamp(at_us / 1e6, UTC).astimezone(ZoneInfo(site.time_zone))
